"""A record evaluated against its criteria: each met, not met or undecided, and the verdict on every candidate."""

from collections.abc import Mapping, Sequence

import msgspec

from kettlefield.core.acceptance import Criterion, NoWorse, Threshold, Verdict, reach_verdict
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.units import format_bytes
from kettlefield.decision.evidence import Evidence
from kettlefield.decision.looks import judge_by_looks, looks_under
from kettlefield.decision.one_criterion import Judgement, judge_criterion
from kettlefield.marking.scale import Weights
from kettlefield.record.store import Record
from kettlefield.results.comparison import Comparison, Figures
from kettlefield.results.look_rows import blocks_of, looks_of

ROOM_ALIKE = 0.05  # of a threshold: less of a difference in room to the thresholds is none


class CandidateVerdict(msgspec.Struct, frozen=True, kw_only=True):
    """The verdict on one candidate with its reasons."""

    candidate: str
    verdict: Verdict
    judgements: tuple[Judgement, ...]


class Decision(msgspec.Struct, frozen=True, kw_only=True):
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
    record: Record, table: Comparison, criteria: Sequence[Criterion], weights: Weights, *, as_begun: bool = True
) -> tuple[CandidateVerdict, ...]:
    """Hold every candidate against the criteria, in the order of the record; a baseline is not up for approval.

    ``as_begun``: the criteria are those that the campaign began with, which its looks were taken at.
    """
    verdicts, evidence = [], Evidence(record, table.trials, weights)
    stops_early = blocks_of(record) is not None
    for row in table.rows:
        if row.baseline:
            continue
        judgements = (
            judge_by_looks(
                record,
                evidence,
                row,
                criteria,
                looks_of(record) if as_begun else looks_under(record, criteria, weights, row.candidate),
            )
            if stops_early
            else tuple(judge_criterion(evidence, row, criterion) for criterion in criteria)
        )
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
