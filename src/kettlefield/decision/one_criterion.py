"""One criterion of one candidate: the figure that a record holds, met, not met or undecided, and why."""

import msgspec

from kettlefield.core.acceptance import Criterion, NoWorse, OneOf, Status, Threshold, judge, judge_membership
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.intervals import samples_for_bound
from kettlefield.core.statistics.paired import Evidence as Shown
from kettlefield.core.statistics.paired import Pairs, exercises_needed, no_worse, score_interval
from kettlefield.decision.evidence import Evidence
from kettlefield.decision.measures import MEASURES
from kettlefield.results.comparison import Figures
from kettlefield.weights.facts import Licence, is_allowed

LEAST_SOLVED = 2  # exercises that a reference level must solve before a level can be said to be no worse


class Judgement(msgspec.Struct, frozen=True, kw_only=True):
    """One criterion of one candidate."""

    criterion: Criterion
    found: Estimate | float | str | None
    status: Status
    reason: str  # why it is undecided, in words; empty otherwise
    reference_is_weak: bool = False  # what the reference level solves is too little for a drop to show


def judge_criterion(evidence: Evidence, row: Figures, criterion: Criterion) -> Judgement:
    """One criterion of one candidate.

    Parameters
    ----------
    evidence : Evidence
        Of the record, or of a look at some of its exercises.
    row : Figures
        The candidate's, of the same exercises.
    criterion : Criterion
        At the confidence that the interval is to have.
    """
    evidence = evidence.at_criterion(criterion)
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
        hints = criterion.measure == "pass_rate" and trials and not evidence.is_look
        needed = evidence.exercises_needed(row, criterion) if hints else None
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
    is_look = evidence.is_look
    pairs = against.pairs.at_look if is_look else against.pairs
    found = score_interval(pairs, confidence=2 * criterion.confidence - 1, corrected=is_look)
    shown = no_worse(pairs, wanted.margin, confidence=criterion.confidence, corrected=is_look)
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
        return Judgement(
            criterion=criterion, found=found, status=Status.UNDECIDED, reason=reason, reference_is_weak=True
        )
    reason = ""
    if shown is Shown.NOT_SHOWN:
        reason = "neither shown nor refuted" if is_look else _what_settles(pairs, wanted, criterion)
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
