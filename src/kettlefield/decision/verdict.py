"""A record evaluated against its criteria: each met, not met or undecided, and the verdict on every candidate."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from kettlefield.core.acceptance import (
    Criterion,
    NoWorse,
    OneOf,
    Status,
    Threshold,
    Verdict,
    judge,
    judge_membership,
    reach_verdict,
)
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.intervals import samples_for_bound
from kettlefield.core.statistics.paired import Evidence as Shown
from kettlefield.core.statistics.paired import Pairs, exercises_needed, no_worse, score_interval
from kettlefield.core.units import format_bytes
from kettlefield.decision.evidence import Evidence
from kettlefield.decision.measures import MEASURES
from kettlefield.marking.scale import Weights
from kettlefield.record.store import Record
from kettlefield.results.comparison import Comparison, Figures
from kettlefield.weights.facts import Licence, is_allowed

LEAST_SOLVED = 2  # exercises that a reference level must solve before a level can be said to be no worse
ROOM_ALIKE = 0.05  # of a threshold: less of a difference in room to the thresholds is none


@dataclass(frozen=True, slots=True, kw_only=True)
class Judgement:
    """One criterion of one candidate."""

    criterion: Criterion
    found: Estimate | float | str | None
    status: Status
    reason: str  # why it is undecided, in words; empty otherwise


@dataclass(frozen=True, slots=True, kw_only=True)
class CandidateVerdict:
    """The verdict on one candidate with its reasons."""

    candidate: str
    verdict: Verdict
    judgements: tuple[Judgement, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Decision:
    """All that a record decides."""

    title: str
    simulated: bool
    table: Comparison
    criteria: tuple[Criterion, ...]
    budget_bytes: int | None  # memory that the plan allows a candidate
    verdicts: tuple[CandidateVerdict, ...]  # of all candidates but baselines
    recommended: dict[str, str]  # model -> candidate
    why_recommended: dict[str, str]  # model -> the rule that chose it, in words
    conditions: dict[str, tuple[str, ...]]  # candidate -> what its verdict holds for
    weights: Weights  # of marks, in the score that has them mixed in

    def of(self, candidate: str) -> CandidateVerdict | None:
        """The verdict on one candidate."""
        return next((one for one in self.verdicts if one.candidate == candidate), None)


def reach_verdicts(
    record: Record, table: Comparison, criteria: Sequence[Criterion], weights: Weights
) -> tuple[CandidateVerdict, ...]:
    """Hold every candidate against the criteria, in the order of the record; a baseline is not up for approval."""
    verdicts, evidence = [], Evidence(record, table.trials, weights)
    for row in table.rows:
        if row.baseline:
            continue
        judgements = tuple(_judge(evidence, row, criterion) for criterion in criteria)
        verdict = reach_verdict([judgement.status for judgement in judgements])
        verdicts.append(CandidateVerdict(candidate=row.candidate, verdict=verdict, judgements=judgements))
    return tuple(verdicts)


def overall(verdicts: Sequence[CandidateVerdict]) -> Verdict:
    """What the exit code tells of all: approved if any candidate is, else undecided if any is, else rejected."""
    verdicts_given = {verdict.verdict for verdict in verdicts}
    for verdict in (Verdict.APPROVED, Verdict.UNDECIDED):
        if verdict in verdicts_given:
            return verdict
    return Verdict.REJECTED if verdicts_given else Verdict.UNDECIDED


def recommendations(table: Comparison, verdicts: Sequence[CandidateVerdict]) -> dict[str, tuple[str, str]]:
    """For each model one approved candidate, and the rule that chose it; models without one are left out.

    The least peak memory decides. Of those within what a peak differs from one run to the next, the one with the
    most room to its thresholds is taken; where that is equal too, the one with the least time for each solved exercise.
    """
    approved = {verdict.candidate: verdict for verdict in verdicts if verdict.verdict is Verdict.APPROVED}
    by_model: dict[str, list[Figures]] = {}
    for row in table.rows:
        if row.candidate in approved and row.peak_bytes is not None:
            by_model.setdefault(row.model, []).append(row)
    return {model: _recommended(rows, approved) for model, rows in by_model.items()}


def _recommended(rows: list[Figures], approved: Mapping[str, CandidateVerdict]) -> tuple[str, str]:
    least = min(rows, key=lambda row: row.peak_bytes or 0)

    def is_as_small(row: Figures) -> bool:
        return (row.peak_bytes or 0) - (least.peak_bytes or 0) <= max(row.peak_spread_bytes, least.peak_spread_bytes)

    equal = [row for row in rows if is_as_small(row)]
    if len(equal) == 1:
        return least.candidate, "the approved one with the least peak memory" if len(rows) > 1 else "the approved one"
    names = ", ".join(row.candidate for row in equal)
    within = format_bytes(max(row.peak_spread_bytes for row in equal))
    rooms = {row.candidate: _room(approved[row.candidate]) for row in equal}
    widest = max(rooms.values())
    roomy = [row for row in equal if widest - rooms[row.candidate] <= ROOM_ALIKE]
    same = f"peak memory of {names} is equal within {within}, what one run differs from the next"
    if len(roomy) == 1:
        return roomy[0].candidate, f"{same}; it has the most room to the thresholds"
    fastest = min(roomy, key=lambda row: row.seconds_per_solved or float("inf"))
    return (
        fastest.candidate,
        f"{same}, and so is their room to the thresholds; it takes the least time a solved exercise",
    )


def _room(verdict: CandidateVerdict) -> float:
    """How far the criterion that is nearest to failing lies from its threshold, as a share of it."""
    return min((room for one in verdict.judgements if (room := _room_of(one)) is not None), default=0.0)


def _room_of(judgement: Judgement) -> float | None:
    figure, threshold = judgement.found, judgement.criterion.threshold
    if isinstance(threshold, NoWorse) and isinstance(figure, Estimate) and figure.low is not None:
        return (figure.low + threshold.margin) / threshold.margin
    if not isinstance(threshold, Threshold) or isinstance(figure, str) or figure is None:
        return None
    low, high = (figure.low, figure.high) if isinstance(figure, Estimate) else (figure, figure)
    if threshold.at_least and low is not None:
        return (low - threshold.at_least) / threshold.at_least
    if threshold.at_most and high is not None:
        return (threshold.at_most - high) / threshold.at_most
    return None


def _judge(evidence: Evidence, row: Figures, criterion: Criterion) -> Judgement:
    if criterion.at_fill is not None:
        evidence = evidence.at_fill(criterion.at_fill)
    if isinstance(criterion.threshold, OneOf):
        return _judge_licence(row, criterion, criterion.threshold)
    if isinstance(criterion.threshold, NoWorse):
        return _judge_no_worse(evidence, row, criterion, criterion.threshold)
    measure = MEASURES[criterion.measure]
    figure = measure.find(evidence, row, criterion, 2 * criterion.confidence - 1)
    threshold = criterion.threshold
    status = judge(threshold, figure)
    reason = ""
    doubt = measure.doubt(evidence, row, criterion)
    if doubt:
        return Judgement(criterion=criterion, found=figure, status=Status.UNDECIDED, reason=doubt)
    trials, planned = (evidence.trials(row, criterion), evidence.planned(row, criterion)) if measure.among else (0, 0)
    if 0 < trials < planned:
        # what is missing may be the harder half: half a campaign decides nothing
        status = Status.UNDECIDED
        reason = f"{trials} of {planned} trials count so far; run qualify to the end"
    elif status is Status.UNDECIDED:
        reason = _reason(criterion, threshold, figure)
        needed = evidence.exercises_needed(row, criterion) if criterion.measure == "pass_rate" and trials else None
        if needed is not None:
            reason += f"; about {needed} exercises would settle it at the rates observed"
    return Judgement(criterion=criterion, found=figure, status=status, reason=reason)


def _judge_no_worse(evidence: Evidence, row: Figures, criterion: Criterion, wanted: NoWorse) -> Judgement:
    """The level against its reference on the same exercises, which is no worse than itself; or against an empty
    context.
    """
    if row.reference and not wanted.than_empty:
        return Judgement(criterion=criterion, found="is the reference level", status=Status.MET, reason="")
    against = evidence.against_empty(row, criterion) if wanted.than_empty else evidence.against(row, criterion)
    if against is None:
        reason = (
            "nothing was asked at this fill of the context"
            if criterion.at_fill is not None
            else "there is no reference level of this model, or they share no trials"
        )
        return Judgement(criterion=criterion, found=None, status=Status.UNDECIDED, reason=reason)
    pairs = against.pairs
    found = score_interval(pairs, confidence=2 * criterion.confidence - 1)
    shown = no_worse(pairs, wanted.margin, confidence=criterion.confidence)
    status = {
        Shown.SHOWN: Status.MET,
        Shown.SHOWN_WORSE: Status.NOT_MET,
        Shown.NOT_SHOWN: Status.UNDECIDED,
    }[shown]
    planned = evidence.planned(row, criterion)
    if pairs.pairs < planned:
        reason = f"{pairs.pairs} of {planned} trials are paired so far; run qualify to the end"
        return Judgement(criterion=criterion, found=found, status=Status.UNDECIDED, reason=reason)
    solved, exercises = evidence.reference_passes(row, criterion, than_empty=wanted.than_empty)
    if exercises < LEAST_SOLVED or solved <= wanted.margin * pairs.pairs:
        reason = (
            f"{against.reference} itself passes {solved} of {pairs.pairs}: "
            f"a drop of {wanted.margin:g} from that means nothing"
        )
        return Judgement(criterion=criterion, found=found, status=Status.UNDECIDED, reason=reason)
    reason = _what_settles(pairs, wanted, criterion) if shown is Shown.NOT_SHOWN else ""
    return Judgement(criterion=criterion, found=found, status=status, reason=reason)


def _what_settles(pairs: Pairs, wanted: NoWorse, criterion: Criterion) -> str:
    needed = exercises_needed(pairs, wanted.margin, confidence=criterion.confidence)
    if needed is None:
        return "neither shown nor refuted; it lies so near the margin that more exercises would hardly settle it"
    return f"neither shown nor refuted; about {needed} exercises would settle it at the rates observed"


def _judge_licence(row: Figures, criterion: Criterion, policy: OneOf) -> Judgement:
    allowed = is_allowed(Licence(written=row.licence, spdx=row.licence), policy.names)
    status = judge_membership(allowed)
    reason = "the weights give no licence that SPDX knows" if allowed is None else ""
    return Judgement(criterion=criterion, found=row.licence, status=status, reason=reason)


def _reason(criterion: Criterion, threshold: Threshold, figure: Estimate | float | None) -> str:
    measure = MEASURES[criterion.measure]
    if figure is None:
        depth = criterion.at_depth_tokens
        needs = measure.needs if depth is None else f"{depth} among [speed.depth] tokens"
        if criterion.at_fill is not None:
            needs = f"{criterion.at_fill:g} among context_fill of [grading]"
        return f"not measured; it needs {needs}"
    quantile = measure.quantile
    assert isinstance(figure, Estimate)  # noqa: S101 - a plain number is never undecided
    bound = figure.low if threshold.at_least is not None else figure.high
    if bound is None and quantile is not None:
        needed = samples_for_bound(quantile, confidence=criterion.confidence)
        return f"n = {figure.n} cannot bound it; it takes {needed}"
    return "the interval reaches across the threshold"
