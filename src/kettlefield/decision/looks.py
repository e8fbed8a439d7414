"""Looks at a candidate after every block, where a campaign stops when it is decided, and what they come to."""

from collections.abc import Iterable, Sequence

import msgspec

from kettlefield.core.acceptance import Criterion, NoWorse, Status, Threshold
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.sequential import confidence_at
from kettlefield.core.units import Unit, format_duration
from kettlefield.decision.evidence import Evidence
from kettlefield.decision.measures import MEASURES
from kettlefield.decision.one_criterion import Judgement, judge_criterion
from kettlefield.marking.scale import Weights
from kettlefield.record.entries import LookEntry
from kettlefield.record.store import Record
from kettlefield.results.breakdown import belongs
from kettlefield.results.capacity import procedure_ends
from kettlefield.results.comparison import Figures, Window, compare
from kettlefield.results.look_rows import Blocks, Look, blocks_asked, blocks_of, looks_of
from kettlefield.results.rows import candidate_rows, exercise_rows, references_of

DECIDED = frozenset({Status.MET, Status.NOT_MET})


class Seen(msgspec.Struct, frozen=True, kw_only=True):
    """One criterion at a look."""

    number: int  # of the plan's criteria, from 1
    exercises: int  # of those that it is about, asked by then
    planned: int  # of those that it is about
    confidence: float  # one-sided, of the interval at this look
    judgement: Judgement

    @property
    def figure(self) -> Estimate | None:
        """What was found, with its interval."""
        return self.judgement.found if isinstance(self.judgement.found, Estimate) else None

    def entry(self, candidate_id: int, block: int) -> LookEntry:
        """The look as a record keeps it."""
        figure = self.figure
        return LookEntry(
            candidate_id=candidate_id,
            block=block,
            criterion=self.number,
            exercises=self.exercises,
            planned=self.planned,
            confidence=self.confidence,
            value=figure.value if figure is not None else None,
            low=figure.low if figure is not None else None,
            high=figure.high if figure is not None else None,
            trials=figure.n if figure is not None else 0,
            status=self.judgement.status.value,
            reason=self.judgement.reason,
        )


def is_looked_at(criterion: Criterion) -> bool:
    """Whether a criterion is judged after every block."""
    return MEASURES[criterion.measure].judged == "by looks"


def fractions_at(
    record: Record, blocks: Blocks, criterion: Criterion, block: int
) -> tuple[tuple[float, ...], int, int]:
    """The share of a criterion's exercises at each look up to a block, then how many those are, and how many in all.

    A block that holds none of them is no look at it. None of this depends on a result.
    """
    mine = [one.id for one in exercise_rows(record) if one.id in blocks.of and belongs(one.groups, criterion.among)]
    counts = blocks.counts(mine, block)
    return tuple(count / len(mine) for count in counts), counts[-1] if counts else 0, len(mine)


def take_look(
    record: Record, criteria: Sequence[Criterion], weights: Weights, candidate: str, block: int
) -> tuple[Seen, ...]:
    """Every criterion of a candidate that looks judge, after a block that was asked whole.

    Each look has its own confidence, so that all together hold at the criterion's; what came after the block is left
    out of it.
    """
    blocks = blocks_of(record)
    if blocks is None:
        return ()
    row, evidence = _at_block(record, blocks, weights, candidate, block)
    seen = []
    for number, criterion in enumerate(criteria, 1):
        if not is_looked_at(criterion) or _is_its_own_reference(row, criterion):
            continue
        fractions, exercises, planned = fractions_at(record, blocks, criterion, block)
        before = fractions_at(record, blocks, criterion, block - 1)[1] if block > 1 else 0
        if exercises == before:
            continue
        if evidence.counted(row, criterion) < evidence.planned(row, criterion):
            continue  # some ended in a fault: the look waits until they are asked again
        confidence = confidence_at(fractions, criterion.confidence)
        judgement = judge_criterion(evidence, row, msgspec.structs.replace(criterion, confidence=confidence))
        seen.append(
            Seen(number=number, exercises=exercises, planned=planned, confidence=confidence, judgement=judgement)
        )
    return tuple(seen)


def _at_block(record: Record, blocks: Blocks, weights: Weights, candidate: str, block: int) -> tuple[Figures, Evidence]:
    within = blocks.upto(block)
    rows = candidate_rows(record)
    model = next(row.model for row in rows if row.name == candidate)
    names = {candidate, references_of(rows).get(model, candidate)}
    table = compare(record, window=Window(exercises=within, candidates=frozenset(names)))
    row = next(row for row in table.rows if row.candidate == candidate)
    return row, Evidence(record, table.trials, weights, within=within)


def _is_its_own_reference(row: Figures, criterion: Criterion) -> bool:
    return row.reference and isinstance(criterion.threshold, NoWorse) and not criterion.threshold.than_empty


def looks_under(record: Record, criteria: Sequence[Criterion], weights: Weights, candidate: str) -> tuple[Look, ...]:
    """What looks at the blocks that a candidate was asked would have seen under other criteria than the campaign's."""
    looks = []
    for block in range(1, blocks_asked(record).get(candidate, 0) + 1):
        for seen in take_look(record, criteria, weights, candidate, block):
            looks.append(
                Look(
                    candidate=candidate,
                    at=0.0,
                    block=block,
                    criterion=seen.number,
                    exercises=seen.exercises,
                    planned=seen.planned,
                    confidence=seen.confidence,
                    figure=seen.figure,
                    status=seen.judgement.status,
                    reason=seen.judgement.reason,
                )
            )
    return tuple(looks)


def judge_by_looks(
    record: Record, evidence: Evidence, row: Figures, criteria: Sequence[Criterion], looks: Sequence[Look]
) -> tuple[Judgement, ...]:
    """All criteria of a candidate of a campaign that stops when it is decided.

    What a look decided stays decided: its boundary paid for that. What can only be judged on the whole is open where
    the candidate was not asked all.

    Parameters
    ----------
    record, evidence
        With all trials.
    row : Figures
        The candidate's.
    criteria : sequence of Criterion
        Of the plan, or others.
    looks : sequence of Look
        At these criteria: the record's, or as `looks_under` gives them.
    """
    blocks = blocks_of(record)
    assert blocks is not None  # noqa: S101 - the caller has seen that the campaign has some
    asked = blocks_asked(record)[row.candidate]
    so_far = f"{len(blocks.upto(asked))} of {len(blocks.of)} exercises"
    mine = [look for look in looks if look.candidate == row.candidate]
    judged = [
        _judge_one(
            record,
            evidence,
            row,
            criterion,
            [look for look in mine if look.criterion == number],
            so_far,
            asked_all=asked == blocks.count,
        )
        if asked < blocks.count or is_looked_at(criterion)
        else judge_criterion(evidence, row, _as_timed(record, row, criterion))
        for number, criterion in enumerate(criteria, 1)
    ]
    failed = next((one.criterion for one in judged if one.status is Status.NOT_MET), None)
    if asked == blocks.count:
        return tuple(msgspec.structs.replace(one, reason=one.reason + _time_left(evidence, row, one)) for one in judged)
    if failed is None:
        return tuple(judged)
    why = f"not needed: stopped after {so_far}, as {failed.label} {failed.wanted} is not met"
    return tuple(msgspec.structs.replace(one, reason=why) if one.status is Status.UNDECIDED else one for one in judged)


def _time_left(evidence: Evidence, row: Figures, judgement: Judgement) -> str:
    """How many more exercises an open criterion needs, and how long they take one after the other."""
    if judgement.status is not Status.UNDECIDED or not is_looked_at(judgement.criterion):
        return ""
    if judgement.found is None:
        return ""
    needed, planned = evidence.exercises_to_settle(row, judgement.criterion), evidence.exercises_of(judgement.criterion)
    if needed is None:
        return "; it lies so near the threshold that more exercises would hardly settle it"
    more = max(1, needed - planned)
    seconds = float(evidence.mine(row, judgement.criterion)["finished_s"].sum()) / planned
    took = f", {format_duration(more * seconds)}" if seconds else ""
    return f"; at the rates observed about {more} more exercises or variants would settle it{took}"


def _judge_one(
    record: Record,
    evidence: Evidence,
    row: Figures,
    criterion: Criterion,
    looks: Sequence[Look],
    so_far: str,
    *,
    asked_all: bool,
) -> Judgement:
    """A criterion of a candidate that looks judge, or that was not asked everything."""
    if not is_looked_at(criterion):
        judgement = judge_criterion(evidence, row, _as_timed(record, row, criterion))
        if MEASURES[criterion.measure].judged == "apart":
            return judgement
        return _on_a_part(judgement, so_far)
    if _is_its_own_reference(row, criterion):
        return judge_criterion(evidence, row, criterion)
    deciding = next((look for look in looks if look.status in DECIDED), None)
    last = deciding or (looks[-1] if looks else None)
    if last is None:
        plain = judge_criterion(evidence, row, criterion)
        if plain.found is None:
            return plain  # there is nothing to look at, and it says why
        return Judgement(
            criterion=criterion,
            found=None,
            status=Status.UNDECIDED,
            reason=f"no look was taken: {so_far} were asked"
            + ("; trials ended in a fault: run qualify with --retry-faults" if asked_all else "; run qualify"),
        )
    words = f"after {last.exercises} of {last.planned} exercises"
    is_last = last.exercises == last.planned
    faults = evidence.trials(row, criterion) < evidence.planned(row, criterion)
    go_on = "" if is_last else "; run qualify to go on"
    if faults and asked_all:
        go_on = "; later trials ended in a fault of server or rig: run qualify with --retry-faults"
    if deciding is not None:
        reason = f"decided {words}" + (", the last look" if is_last else "")
    else:
        reason = f"{last.reason}; looked at {words}{go_on}"
    return Judgement(criterion=criterion, found=last.figure, status=last.status, reason=reason)


def _on_a_part(judgement: Judgement, so_far: str) -> Judgement:
    """What counts over all trials, when not all were asked: a count that is too high already stays so."""
    criterion, found = judgement.criterion, judgement.found
    most = criterion.threshold.at_most if isinstance(criterion.threshold, Threshold) else None
    is_count = MEASURES[criterion.measure].unit is Unit.COUNT
    if is_count and most is not None and isinstance(found, float) and found > most:
        return msgspec.structs.replace(judgement, status=Status.NOT_MET, reason=f"already after {so_far}")
    reason = f"can only be judged on the whole; asked {so_far}"
    return msgspec.structs.replace(judgement, status=Status.UNDECIDED, reason=reason)


def timed_criteria(criteria: Iterable[Criterion]) -> list[Criterion]:
    """The criteria on requests timed one at a time."""
    return [one for one in criteria if MEASURES[one.measure].quantile is not None and one.at_depth_tokens is None]


def judge_timing(
    record: Record, criteria: Iterable[Criterion], weights: Weights, candidate: str, looks: Sequence[int], most: int
) -> tuple[Judgement, ...]:
    """The criteria on requests timed one at a time, looked at after these numbers of them, of so many at the most."""
    row, evidence = _apart(record, weights, candidate)
    fractions = [count / most for count in looks]
    return tuple(
        judge_criterion(
            evidence, row, msgspec.structs.replace(one, confidence=confidence_at(fractions, one.confidence))
        )
        for one in timed_criteria(criteria)
    )


def _apart(record: Record, weights: Weights, candidate: str) -> tuple[Figures, Evidence]:
    """A candidate without its answers."""
    table = compare(record, window=Window(exercises=frozenset(), candidates=frozenset({candidate})))
    row = next(row for row in table.rows if row.candidate == candidate)
    return row, Evidence(record, table.trials, weights)


def _as_timed(record: Record, row: Figures, criterion: Criterion) -> Criterion:
    """A criterion on timed requests that were looked at while they were made: at the confidence of the last look."""
    if not timed_criteria([criterion]):
        return criterion
    _, facts = procedure_ends(record).get(row.candidate, {}).get("latency", ("", {}))
    looks, most = facts.get("looks"), facts.get("most_requests")
    if not looks or not most:
        return criterion
    return msgspec.structs.replace(
        criterion, confidence=confidence_at([count / most for count in looks], criterion.confidence)
    )


def judge_apart(
    record: Record, criteria: Iterable[Criterion], weights: Weights, candidate: str
) -> tuple[Judgement, ...]:
    """The criteria of a candidate that need no answer, as far as they are known by now."""
    row, evidence = _apart(record, weights, candidate)
    apart = [one for one in criteria if MEASURES[one.measure].judged == "apart"]
    return tuple(judge_criterion(evidence, row, _as_timed(record, row, criterion)) for criterion in apart)


def looks_that_differ(record: Record, criteria: Sequence[Criterion], weights: Weights) -> list[str]:
    """Looks that do not follow from the trials in the record, in words; empty: all do.

    A look is taken again from the trials of its blocks.
    """
    lines = []
    by_look: dict[tuple[str, int], list[Look]] = {}
    for look in looks_of(record):
        by_look.setdefault((look.candidate, look.block), []).append(look)
    for (candidate, block), looks in by_look.items():
        again = {seen.number: seen for seen in take_look(record, criteria, weights, candidate, block)}
        for look in looks:
            now = again.get(look.criterion)
            if now is None or not _is_same(look, now):
                lines.append(
                    f"look {block} of {candidate} at criterion {look.criterion} does not follow from its trials"
                )
    return lines


_NEAR = 1e-6  # of a share: what one build of a library may differ from another


def _is_same(look: Look, now: Seen) -> bool:
    found = now.figure
    if look.status is not now.judgement.status or abs(look.confidence - now.confidence) > _NEAR:
        return False
    if look.figure is None or found is None:
        return look.figure is found
    pairs = ((look.figure.value, found.value), (look.figure.low, found.low), (look.figure.high, found.high))
    return look.figure.n == found.n and all(
        a is b is None or (a is not None and b is not None and abs(a - b) <= _NEAR) for a, b in pairs
    )
