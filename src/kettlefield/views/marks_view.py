"""How far marks can be trusted, then what they say of each candidate."""

from collections.abc import Sequence
from typing import Any

from kettlefield.marking.judge_trust import Trust
from kettlefield.marking.marks import Agreement
from kettlefield.marking.scores import MarkedCandidate, Marking, read_marking
from kettlefield.plan.criteria import terms_of_text
from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts
from kettlefield.views.table import Table, View, Words, chosen, count, estimate_json, present, share, table, words


def marks_view(record: Record, only: str | None = None) -> View:
    """Trust first, then marks."""
    facts = campaign_facts(record)
    marking = read_marking(record, terms_of_text(facts["plan_text"], str(record.place)).weights)
    nothing = "Nothing was marked yet: kettlefield mark RECORD --by NAME, or kettlefield judge PLAN."
    return View(
        title=facts["title"],
        simulated=facts["simulated"],
        parts=(Words(text=nothing),) if marking.is_empty else marks_parts(marking, chosen(marking.candidates, only)),
        document={"simulated": facts["simulated"], **_document(marking, only)},
    )


def marks_parts(marking: Marking, rows: Sequence[MarkedCandidate]) -> tuple[Table | Words, ...]:
    """The tables of marks, as the terminal and the report show them."""
    return present(
        trust_table(marking.trusts),
        *(Words(text=f"{judge}: shown and not used: {why}", tone="warning") for judge, why in marking.unused.items()),
        agreement_table(marking.agreements),
        marked_table(marking, rows),
    )


def trust_table(rows: Sequence[Trust]) -> Table | None:
    """The judge model, before its marks count."""
    names = (
        *("position bias", "longer wins, equal by the checks", "same in both orders", "better by checks wins"),
        *("passing above failing", "same when asked again"),
    )
    return table(
        "The judge model, before its marks count",
        [
            words("judge"),
            count("asked"),
            count("no answer"),
            *(share(name) for name in names),
            share("kappa with people"),
        ],
        [
            (
                *(one.judge, one.asked, one.faults, one.place, one.length, one.both_orders, one.follows, one.parting),
                one.same_again,
                one.with_people.kappa or f"- (n = {one.with_people.both})",
            )
            for one in rows
        ],
        note="Position bias: 0 favours neither place. Length bias: 0.50 favours neither length.",
    )


def agreement_table(rows: Sequence[Agreement]) -> Table | None:
    """Agreement of people with each other and with themselves."""
    return table(
        "Agreement of people",
        [words("marker"), words("with"), count("both marked"), count("the same"), share("weighted kappa")],
        [(one.who, one.with_whom, one.both, one.same, one.kappa) for one in rows],
    )


def marked_table(marking: Marking, rows: Sequence[MarkedCandidate]) -> Table | None:
    """Marks beside checks."""
    by_checks, weights = marking.by_checks, marking.weights_used
    parting = (
        f"A reply that passes its checks is marked above one that fails in {by_checks.value:.0%} of such pairs, ties "
        f"counting half (n = {by_checks.n}). "
        if by_checks is not None
        else ""
    )
    return table(
        "Marks beside checks",
        [
            words("candidate"),
            count("marked"),
            share("mean mark"),
            count("judged"),
            share("mean judgement"),
            share("score by checks"),
            share("score with marks"),
        ],
        [
            (
                *(one.candidate, one.marked, one.mean_mark, one.judged, one.mean_judgement),
                *(one.checks_score, one.marked_score),
            )
            for one in rows
        ],
        note=f"{parting}Marks go from 0 to 4; equal replies were marked once. Weighted kappa (quadratic): 0 is "
        "chance, 1 is "
        f"agreement throughout. In the score with marks people weigh {weights.people:g} and the judge "
        f"{weights.judge:g} of "
        "a reply that they marked; the checks weigh the rest.",
    )


def _document(marking: Marking, only: str | None) -> dict[str, Any]:
    figures = ("place", "length", "both_orders", "follows", "parting", "same_again")
    marks = ("mean_mark", "mean_judgement", "checks_score", "marked_score")
    return {
        "weights": {"people": marking.weights.people, "judge": marking.weights_used.judge},
        "agreement_at_least": marking.weights.agreement_at_least,
        "agreements": [
            {
                "who": one.who,
                "with_whom": one.with_whom,
                "kappa": estimate_json(one.kappa),
                "same": one.same,
                "both": one.both,
            }
            for one in marking.agreements
        ],
        "parting_by_checks": estimate_json(marking.by_checks),
        "judges": [
            {
                "judge": one.judge,
                "asked": one.asked,
                "faults": one.faults,
                **{name: estimate_json(getattr(one, name)) for name in figures},
                "with_people": estimate_json(one.with_people.kappa),
                "not_used": marking.unused.get(one.judge),
            }
            for one in marking.trusts
        ],
        "candidates": [
            {
                "candidate": one.candidate,
                "marked": one.marked,
                "judged": one.judged,
                **{name: estimate_json(getattr(one, name)) for name in marks},
            }
            for one in chosen(marking.candidates, only)
        ],
    }
