"""The quantities that a criterion may name: their units, and how each is found in a record's evidence.

A measure is a function decorated with ``@measure``. Modules of third parties add theirs through the entry-point group
``kettlefield.measures``.
"""

from collections.abc import Callable
from typing import Literal

import msgspec

from kettlefield.core.acceptance import Criterion, Threshold
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.intervals import quantile_interval
from kettlefield.core.statistics.next_token import Pairing
from kettlefield.core.units import Unit
from kettlefield.decision.evidence import Evidence
from kettlefield.marking.scores import mean_by_exercise, mixed_scores
from kettlefield.registry import Registry
from kettlefield.results.breakdown import by_suite, together
from kettlefield.results.capacity import capacity_found, procedure_ends
from kettlefield.results.comparison import QUANTILES, Figures
from kettlefield.results.rig_rows import rig_of
from kettlefield.results.speed import GUESSED, is_guessed, off_depth, usable_of
from kettlefield.results.text_fidelity import Fidelity, fidelities

Found = Estimate | float | None
Find = Callable[[Evidence, Figures, Criterion, float], Found]  # the last: of a two-sided interval
Doubt = Callable[[Evidence, Figures, Criterion], str]
# where a campaign stops when it is decided: looked at after every block of the suite; judged when all of it was asked,
# as a count over all trials can only be; or found apart from the suite
Judged = Literal["by looks", "on the whole", "apart"]


def _doubt_of_field(name: str) -> Doubt:
    return lambda _evidence, row, _criterion: row.doubts.get(name, "")


class Measure(msgspec.Struct, frozen=True, kw_only=True):
    """One quantity that a criterion may name.

    ``find`` gives what was found of a candidate in the measure's unit, None where it was not measured; ``doubt`` says
    why that decides nothing, in words: disturbed, of sessions that differ, guessed; empty: it decides.
    """

    name: str
    unit: Unit
    meaning: str
    needs: str  # the part of a campaign that measures it, in words
    find: Find
    doubt: Doubt
    among: bool = False  # can be asked of exercises of one kind, language, difficulty, topic or suite
    at_depth: bool = False  # can be asked at a context depth
    by_outcome: bool = False  # the criterion names outcomes
    at_fill: bool = False  # can be asked of what was asked with the context filled
    quantile: float | None = None  # of samples, which so few may not bound
    judged: Judged = "apart"


def measure(
    name: str,
    unit: Unit,
    meaning: str,
    *,
    needs: str,
    among: bool = False,
    by_outcome: bool = False,
    at_fill: bool = False,
    doubt: Doubt | None = None,
    judged: Judged = "apart",
) -> Callable[[Find], Measure]:
    """The decorator that makes a measure of the function that finds it."""

    def made(find: Find) -> Measure:
        return Measure(
            name=name,
            unit=unit,
            meaning=meaning,
            needs=needs,
            find=find,
            doubt=doubt or _doubt_of_field(name),
            among=among,
            by_outcome=by_outcome,
            at_fill=at_fill,
            judged=judged,
        )

    return made


@measure(
    "pass_rate",
    Unit.RATIO,
    "share of trials passed, faults of server and rig left out",
    needs="the answers part",
    among=True,
    at_fill=True,
    judged="by looks",
)
def pass_rate(evidence: Evidence, row: Figures, criterion: Criterion, confidence: float) -> Found:
    """pass@1, over suites by weight."""
    suites = row.suites
    if evidence.is_narrowed(criterion):
        mine = evidence.mine(row, criterion)
        if mine.empty:
            return None
        suites = by_suite(mine, evidence.exercises)
    return together(suites, confidence=confidence, corrected=evidence.is_look)


FIXED_TEXTS = "[fidelity] texts or text_files"


def _fidelity(evidence: Evidence, row: Figures, confidence: float) -> Fidelity | None:
    found = fidelities(evidence.record, confidence=confidence)
    return next((one for one in found if one.candidate == row.candidate and one.texts), None)


def _no_fidelity(evidence: Evidence, row: Figures, criterion: Criterion) -> str:
    """Why a server that was asked for log-probabilities gave no such figure; empty where it did, or was not asked."""
    found = next((one for one in fidelities(evidence.record) if one.candidate == row.candidate), None)
    if found is None:
        return ""
    why = found.no_perplexity if criterion.measure == "perplexity_per_byte" else found.not_measured
    return f"not measured: {why}" if why else ""


def _beside_reference(
    evidence: Evidence, row: Figures, confidence: float, pick: Callable[[Pairing], Estimate | None], with_itself: float
) -> Found:
    """A figure of a level beside its reference level; a reference level has the one that anything has with itself."""
    found = _fidelity(evidence, row, confidence)
    if found is None:
        return None
    if row.reference:
        return with_itself
    return pick(found.pairing) if found.pairing is not None else None


@measure(
    "perplexity_per_byte",
    Unit.PERPLEXITY,
    "of fixed texts; comparable across models",
    needs=FIXED_TEXTS,
    doubt=_no_fidelity,
)
def perplexity_per_byte(evidence: Evidence, row: Figures, _criterion: Criterion, confidence: float) -> Found:
    """Exp of the mean negative log-likelihood of a byte."""
    found = _fidelity(evidence, row, confidence)
    return found.perplexity_per_byte if found is not None else None


@measure(
    "top1_agreement",
    Unit.RATIO,
    "share of positions of fixed texts at which it holds the same token likeliest as its reference level",
    needs=FIXED_TEXTS,
    doubt=_no_fidelity,
)
def top1_agreement(evidence: Evidence, row: Figures, _criterion: Criterion, confidence: float) -> Found:
    """Against the reference level, which agrees with itself throughout."""
    return _beside_reference(evidence, row, confidence, lambda pairing: pairing.top1_agreement, 1.0)


@measure(
    "kl_divergence",
    Unit.NATS,
    "mean over positions of fixed texts, from its reference level, in nats; a lower bound",
    needs=FIXED_TEXTS,
    doubt=_no_fidelity,
)
def kl_divergence(evidence: Evidence, row: Figures, _criterion: Criterion, confidence: float) -> Found:
    """Against the reference level, which does not diverge from itself."""
    return _beside_reference(evidence, row, confidence, lambda pairing: pairing.kl_divergence, 0.0)


@measure(
    "marked_score",
    Unit.RATIO,
    "mean score of trials, marks mixed in at the weights of [marking] and [judge]",
    needs="the answers part",
    among=True,
    judged="on the whole",
)
def marked_score(evidence: Evidence, row: Figures, criterion: Criterion, confidence: float) -> Found:
    """The score with marks."""
    mine, marking = evidence.mine(row, criterion), evidence.marking
    if mine.empty:
        return None
    marked = marking.trials[marking.trials["id"].isin(mine["id"])]
    return mean_by_exercise(marked, mixed_scores(marked, marking.weights_used), confidence)


@measure(
    "outcome_count",
    Unit.COUNT,
    "trials that ended in one of the outcomes that the criterion names",
    needs="the answers part",
    among=True,
    by_outcome=True,
    at_fill=True,
    judged="on the whole",
)
def outcome_count(evidence: Evidence, row: Figures, criterion: Criterion, _confidence: float) -> Found:
    """A count of trials."""
    mine = evidence.mine(row, criterion)
    return None if mine.empty else float(mine["outcome"].isin(criterion.outcomes).sum())


@measure(
    "escape_attempts",
    Unit.COUNT,
    "trials whose answer was refused network, files or rights outside its sandbox, and died of it",
    needs="the answers part",
    among=True,
    at_fill=True,
    judged="on the whole",
)
def escape_attempts(evidence: Evidence, row: Figures, criterion: Criterion, _confidence: float) -> Found:
    """A count of trials."""
    mine = evidence.mine(row, criterion)
    return None if mine.empty else float(mine["id"].isin(evidence.escaping).sum())


def _quantile(name: str, unit: Unit, meaning: str) -> Measure:
    """A quantile of requests timed one at a time, or of those at a context depth."""
    field, share = QUANTILES[name]

    def find(evidence: Evidence, row: Figures, criterion: Criterion, confidence: float) -> Found:
        if criterion.at_depth_tokens is None:
            return row.quantile(name, confidence=confidence)
        values = usable_of(evidence.at_depth(row, criterion.at_depth_tokens), field).values
        return quantile_interval(list(values), share, confidence=confidence) if values else None

    def doubt(evidence: Evidence, row: Figures, criterion: Criterion) -> str:
        if criterion.at_depth_tokens is None:
            return row.doubts.get(field, "")
        mine = evidence.at_depth(row, criterion.at_depth_tokens)
        return GUESSED if is_guessed(mine) else off_depth(mine) or usable_of(mine, field).doubt

    return Measure(
        name=name,
        unit=unit,
        meaning=f"{name.rpartition('.')[2]} of {meaning}",
        needs="[speed] requests above 0",
        find=find,
        doubt=doubt,
        at_depth=True,
        quantile=share,
    )


TIMED = tuple(
    _quantile(name, unit, meaning)
    for field, unit, meaning in (
        ("ttft_s", Unit.SECONDS, "time to first token, one request at a time"),
        ("decode_tps", Unit.TOKENS_PER_SECOND, "decode rate, one request at a time"),
    )
    for name in QUANTILES
    if QUANTILES[name][0] == field
)


@measure(
    "peak_bytes",
    Unit.BYTES,
    "highest memory of the server, host and accelerator together",
    needs="a server that the plan starts",
)
def peak_bytes(_evidence: Evidence, row: Figures, _criterion: Criterion, _confidence: float) -> Found:
    """A direct measurement."""
    return row.peak_bytes


@measure("load_s", Unit.SECONDS, "server started until ready", needs="a server that the plan starts")
def load_s(_evidence: Evidence, row: Figures, _criterion: Criterion, _confidence: float) -> Found:
    """A direct measurement."""
    return row.load_s


def _doubt_of_cold_load(evidence: Evidence, row: Figures, _criterion: Criterion) -> str:
    cold = [load for load in evidence.loads(row) if load.kind == "cold"]
    return f"disturbed: {cold[0].disturbed} while it loaded" if cold and cold[0].disturbed else ""


@measure(
    "cold_load_s",
    Unit.SECONDS,
    "server started until ready, its weights read from the disk",
    needs="[speed] cold_load = true",
    doubt=_doubt_of_cold_load,
)
def cold_load_s(evidence: Evidence, row: Figures, _criterion: Criterion, _confidence: float) -> Found:
    """A direct measurement."""
    return next((load.load_s for load in evidence.loads(row) if load.kind == "cold"), None)


def _doubt_of_capacity(evidence: Evidence, row: Figures, criterion: Criterion) -> str:
    found = capacity_found({}, procedure_ends(evidence.record).get(row.candidate, {}))
    wanted = criterion.threshold.at_least if isinstance(criterion.threshold, Threshold) else None
    # what held did so on a busy host too
    if found is None or not found.disturbed or (wanted is not None and (found.holds_rps or 0.0) >= wanted):
        return ""
    return f"disturbed: {found.disturbed} at {found.fails_rps:.3g} requests/s; measure it again: --again open_loop"


@measure(
    "capacity_rps",
    Unit.REQUESTS_PER_SECOND,
    "highest rate of random arrivals at which the limits of [speed.open_loop] hold",
    needs="[speed.open_loop] ttft",
    doubt=_doubt_of_capacity,
)
def capacity_rps(evidence: Evidence, row: Figures, _criterion: Criterion, _confidence: float) -> Found:
    """The highest rate that held."""
    _, facts = procedure_ends(evidence.record).get(row.candidate, {}).get("open_loop", ("", {}))
    return float(facts["capacity_rps"]) if facts.get("capacity_rps") is not None else None


@measure(
    "joules_per_solved",
    Unit.JOULES,
    "energy of the answers part over the trials solved",
    needs="energy counters that this machine exposes",
    judged="on the whole",
)
def joules_per_solved(evidence: Evidence, row: Figures, _criterion: Criterion, _confidence: float) -> Found:
    """A direct measurement."""
    return evidence.memories[row.candidate].joules_per_solved


@measure(
    "seconds_per_solved",
    Unit.SECONDS,
    "request time of all trials over those solved",
    needs="the answers part with something solved",
    judged="on the whole",
)
def seconds_per_solved(_evidence: Evidence, row: Figures, _criterion: Criterion, _confidence: float) -> Found:
    """A direct measurement."""
    return row.seconds_per_solved


@measure(
    "stopwatch_floor_s",
    Unit.SECONDS,
    "the stopwatch's own error on this machine, p99",
    needs="`kettlefield calibrate` before the campaign begins",
)
def stopwatch_floor_s(evidence: Evidence, row: Figures, _criterion: Criterion, _confidence: float) -> Found:
    """Of the calibration that the campaign began with."""
    known = rig_of(evidence.record, row.candidate).get("calibration")
    return float(known["floor_s"]) if known else None


@measure("weights_bytes", Unit.BYTES, "size of the weights' files on the disk", needs="weights that the plan names")
def weights_bytes(_evidence: Evidence, row: Figures, _criterion: Criterion, _confidence: float) -> Found:
    """Known before a server starts."""
    return row.weights_bytes


@measure("licence", Unit.LICENCE, "licence of the weights, as SPDX", needs="weights that tell it")
def licence(_evidence: Evidence, _row: Figures, _criterion: Criterion, _confidence: float) -> Found:
    """A name, not a number: the verdict looks it up in the criterion's list."""
    return None


@measure(
    "prediction_error",
    Unit.RATIO,
    "how far measured peak memory lies off the predicted, as a share",
    needs="weights whose header is read, and a server that the plan starts",
)
def prediction_error(_evidence: Evidence, row: Figures, _criterion: Criterion, _confidence: float) -> Found:
    """A direct measurement."""
    return row.prediction_error


MEASURES: Registry[Measure] = Registry(Measure, package=__name__, group="kettlefield.measures")
