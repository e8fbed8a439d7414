"""The cells of the tables of marks, which the terminal and the page share."""

from kettlefield.core.measures import Unit
from kettlefield.core.statistics.estimate import Estimate, in_words, with_interval
from kettlefield.marking.judge_trust import Trust
from kettlefield.marking.marks import Agreement
from kettlefield.marking.scores import MarkedCandidate, Marking

TRUST_HEADS = (
    "judge",
    ">asked",
    ">no answer",
    ">biases to the first place",
    ">longer wins, equal by the checks",
    ">same in both orders",
    ">better by checks wins",
    ">passing above failing",
    ">same when asked again",
    ">kappa with people",
)
AGREEMENT_HEADS = ("marker", "with", ">both marked", ">the same", ">weighted kappa")
CANDIDATE_HEADS = (
    "candidate",
    ">marked",
    ">mean mark",
    ">judged",
    ">mean judgement",
    ">score by checks",
    ">score with marks",
)


def trust_cells(one: Trust) -> tuple[str, ...]:
    """One row of ``TRUST_HEADS``."""
    figures = (one.place, one.length, one.both_orders, one.follows, one.parting, one.same_again)
    kappa = one.with_people.kappa
    with_people = in_words(kappa, Unit.RATIO) if kappa is not None else f"- (n = {one.with_people.both})"
    return (one.judge, str(one.asked), str(one.faults), *map(_cell, figures), with_people)


def agreement_cells(one: Agreement) -> tuple[str, ...]:
    """One row of ``AGREEMENT_HEADS``."""
    return (one.who, one.with_whom, str(one.both), str(one.same), _cell(one.kappa))


def candidate_cells(one: MarkedCandidate) -> tuple[str, ...]:
    """One row of ``CANDIDATE_HEADS``."""
    return (
        one.candidate,
        str(one.marked),
        _cell(one.mean_mark),
        str(one.judged),
        _cell(one.mean_judgement),
        _cell(one.checks_score),
        _cell(one.marked_score),
    )


def marks_note(marking: Marking) -> str:
    """What the figures are, in words."""
    weights = marking.weights_used
    parting = marking.by_checks
    said = (
        f"A reply that passes its checks is marked above one that fails in {parting.value:.0%} of such pairs, ties "
        f"counting half (n = {parting.n}).\n"
        if parting is not None
        else ""
    )
    words = (
        "Marks go from 0 to 4; equal replies were marked once. Weighted kappa (quadratic): 0 is chance, 1 is\n"
        "agreement throughout. Biases: 0 favours neither place; 0.50 favours neither length.\n"
    )
    shares = f"people weigh {weights.people:g} and the judge {weights.judge:g} of a reply that they marked"
    return f"{said}{words}In the score with marks {shares}; the checks weigh the rest."


def _cell(value: Estimate | None) -> str:
    return with_interval(value, Unit.RATIO) if value is not None else "-"
