"""Which criteria a campaign that stops when it is decided is likely to decide, before the hours are spent."""

from collections.abc import Mapping, Sequence

import msgspec

from kettlefield.campaign.deciding import TOSS_UP, Deciding, drawn_blocks, score_of
from kettlefield.campaign.forecast import Forecast
from kettlefield.campaign.measuring import ANSWERS
from kettlefield.campaign.setup import properties_of
from kettlefield.core.acceptance import Criterion, NoWorse, Status
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.sequential import chance_decided
from kettlefield.decision.evidence import Evidence
from kettlefield.decision.looks import DECIDED, is_looked_at
from kettlefield.decision.one_criterion import judge_criterion
from kettlefield.marking.scale import Weights
from kettlefield.plan.plan import Plan
from kettlefield.plan.suite_selection import Asked
from kettlefield.record.store import Record
from kettlefield.results.breakdown import belongs
from kettlefield.results.comparison import compare
from kettlefield.results.look_rows import Blocks, blocks_of, looks_of

NOT_NEEDED = "not needed"  # another criterion rejects the candidate


class Outlook(msgspec.Struct, frozen=True, kw_only=True):
    """One criterion of one candidate."""

    candidate: str
    criterion: str  # in words
    basis: str  # what is taken for the truth
    status: str  # as decided already; "undecided": it is open; or `NOT_NEEDED`
    chance: float  # that some look decides it, either way
    exercises: int | None  # asked by the look at which that is as likely as not; none: at no look
    chance_in_budget: float  # the same within the plan's budget, candidates in its order


class _Truth(msgspec.Struct, frozen=True, kw_only=True):
    """What is taken for the truth of a criterion."""

    basis: str
    drift: float  # expected score at the whole suite
    seen: float = 0.0  # score at the last look
    at: float = 0.0  # share of the exercises by then


def over_in(plan: Plan, record: Record | None) -> dict[str, frozenset[str]]:
    """For each candidate the parts of which nothing more is done, since what was found decides already."""
    if plan.campaign.until != "decided" or record is None or blocks_of(record) is None:
        return {}
    deciding = Deciding(plan, record, lambda *_: None)
    return {one.name: deciding.parts_over(one) for one in plan.candidates}


def outlooks(
    plan: Plan,
    asked: Asked,
    forecasts: Sequence[Forecast],
    record: Record | None,
    earlier: Record | None,
    over: Mapping[str, frozenset[str]],
) -> tuple[Outlook, ...]:
    """Every criterion that looks judge, of every candidate that is forecast.

    What is taken for the truth is, in this order: what was seen at the last look of the record that is resumed; what an
    earlier record found of the same candidate; else that the criterion is a toss-up, as clear either way as one look at
    the end decides in 8 of 10 campaigns.

    Parameters
    ----------
    plan, asked
        What is to be run.
    forecasts : sequence of Forecast
        What is left to do for each candidate, and how long that takes at least.
    record : Record or None
        The plan's, where it was begun.
    earlier : Record or None
        Of another campaign.
    over : mapping
        As of `over_in`.

    Raises
    ------
    InputError
        There is nothing to decide, or too little for two looks.
    """
    known = blocks_of(record) if record is not None else None
    blocks = known if known is not None else Blocks(of=drawn_blocks(plan, asked))
    budget = plan.campaign.budget
    spent_s, rows = 0.0, []
    for one in forecasts:
        takes_s = one.at_least_s or 0.0
        share = 1.0 if budget is None or takes_s <= 0 else min(1.0, max(0.0, (budget - spent_s) / takes_s))
        spent_s += takes_s
        for number, criterion in enumerate(plan.criteria, 1):
            if is_looked_at(criterion) and not _is_own_reference(plan, one.candidate, criterion):
                shares = _shares(asked, blocks, criterion)
                row = _outlook(one.candidate, number, criterion, shares, share, record, earlier, plan.weights)
                rows.append(_not_needed(row) if ANSWERS in over.get(one.candidate, ()) else row)
    return tuple(rows)


def _is_own_reference(plan: Plan, candidate: str, criterion: Criterion) -> bool:
    paired = isinstance(criterion.threshold, NoWorse) and not criterion.threshold.than_empty
    return paired and any(one.name == candidate and one.reference for one in plan.candidates)


def _shares(asked: Asked, blocks: Blocks, criterion: Criterion) -> list[tuple[float, int]]:
    """At each look of a criterion the share of its exercises, and how many those are."""
    mine = [
        exercise.id
        for share in asked.shares
        for exercise in share.exercises
        if exercise.id in blocks.of and belongs(properties_of(exercise, share), criterion.among)
    ]
    return [(count / len(mine), count) for count in blocks.counts(mine)]


def _outlook(
    candidate: str,
    number: int,
    criterion: Criterion,
    shares: list[tuple[float, int]],
    reached: float,
    record: Record | None,
    earlier: Record | None,
    weights: Weights,
) -> Outlook:
    words = f"{criterion.label} {criterion.wanted}"
    looks = looks_of(record) if record is not None else ()
    mine = [look for look in looks if look.candidate == candidate and look.criterion == number]
    deciding = next((look for look in mine if look.status in DECIDED), None)
    if deciding is not None:
        return Outlook(
            candidate=candidate, criterion=words, basis="this record", status=deciding.status.value, chance=1.0,
            exercises=deciding.exercises, chance_in_budget=1.0,
        )  # fmt: skip
    truth = _Truth(basis="a toss-up", drift=TOSS_UP)
    if mine and (score := score_of(criterion, mine[-1].figure, mine[-1].confidence)) is not None:
        at = mine[-1].exercises / mine[-1].planned
        truth = _Truth(basis="this record so far", drift=score / at**0.5, seen=score, at=at)
    elif earlier is not None:
        truth = _earlier(earlier, candidate, criterion, shares[-1][1], weights) or truth
    chances = chance_decided(
        truth.drift, [share for share, _ in shares], 1 - criterion.confidence, seen=truth.seen, at=truth.at
    )
    likely = next((count for (_, count), chance in zip(shares, chances, strict=True) if chance >= 0.5), None)
    within = truth.at + reached * (1 - truth.at)
    in_budget = [chance for (share, _), chance in zip(shares, chances, strict=True) if share <= within + 1e-9]
    return Outlook(
        candidate=candidate,
        criterion=words,
        basis=truth.basis,
        status=Status.UNDECIDED.value,
        chance=chances[-1],
        exercises=likely,
        chance_in_budget=in_budget[-1] if in_budget else 0.0,
    )


def _not_needed(row: Outlook) -> Outlook:
    if row.status != Status.UNDECIDED.value:
        return row
    return msgspec.structs.replace(row, status=NOT_NEEDED, chance=0.0, exercises=None, chance_in_budget=0.0)


def _earlier(earlier: Record, candidate: str, criterion: Criterion, planned: int, weights: Weights) -> _Truth | None:
    """What an earlier record found of the same candidate; None where it has it not, or not measured."""
    table = compare(earlier)
    row = next((row for row in table.rows if row.candidate == candidate), None)
    if row is None:
        return None
    evidence = Evidence(earlier, table.trials, weights)
    found = judge_criterion(evidence, row, criterion).found
    exercises = evidence.exercises_of(criterion)
    if not isinstance(found, Estimate) or not exercises:
        return None
    score = score_of(criterion, found, criterion.confidence)
    if score is None:
        return None
    return _Truth(basis=f"the earlier record, {exercises} exercises", drift=score * (planned / exercises) ** 0.5)
