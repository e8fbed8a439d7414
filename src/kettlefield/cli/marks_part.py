"""``kettlefield compare --part marks``: how far marks can be trusted, then what they say of each candidate."""

from pathlib import Path
from typing import Any

from rich.console import Console

from kettlefield.cli.console import (
    chosen,
    estimate_json,
    make_console,
    make_table,
    print_heading,
    print_json,
    print_note,
    print_table,
    safe,
)
from kettlefield.marking.scores import Marking, read_marking
from kettlefield.plan.criteria import terms_of_text
from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts
from kettlefield.views.marks_tables import (
    AGREEMENT_HEADS,
    CANDIDATE_HEADS,
    TRUST_HEADS,
    agreement_cells,
    candidate_cells,
    marks_note,
    trust_cells,
)


def show_marks(path: Path, only: str | None, *, as_json: bool) -> None:
    """Print trust first, then marks."""
    record = Record.open(path)
    facts = campaign_facts(record)
    marking = read_marking(record, terms_of_text(facts["plan_text"], path).weights)
    if as_json:
        print_json({"simulated": facts["simulated"], **_as_json(marking, only)})
        return
    console = make_console()
    print_heading(console, facts["title"], simulated=facts["simulated"])
    if marking.is_empty:
        console.print("Nothing was marked yet: kettlefield mark RECORD --by NAME, or kettlefield judge PLAN.")
        return
    _print_trust(console, marking)
    table = make_table(*CANDIDATE_HEADS)
    for one in chosen(marking.candidates, only):
        table.add_row(*map(safe, candidate_cells(one)))
    print_table(console, table)
    print_note(console, marks_note(marking))


def _print_trust(console: Console, marking: Marking) -> None:
    if marking.trusts:
        table = make_table(*TRUST_HEADS)
        for one in marking.trusts:
            table.add_row(*map(safe, trust_cells(one)))
        print_table(console, table)
    for judge, why in marking.unused.items():
        console.print(safe(f"{judge}: shown and not used: {why}", "yellow"), soft_wrap=True)
    if marking.agreements:
        table = make_table(*AGREEMENT_HEADS)
        for pair in marking.agreements:
            table.add_row(*map(safe, agreement_cells(pair)))
        print_table(console, table)


def _as_json(marking: Marking, only: str | None) -> dict[str, Any]:
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
                **{
                    name: estimate_json(getattr(one, name))
                    for name in ("place", "length", "both_orders", "follows", "parting", "same_again")
                },
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
                **{
                    name: estimate_json(getattr(one, name))
                    for name in ("mean_mark", "mean_judgement", "checks_score", "marked_score")
                },
            }
            for one in chosen(marking.candidates, only)
        ],
    }
