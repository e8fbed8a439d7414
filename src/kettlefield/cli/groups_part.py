"""``kettlefield compare --by``: pass rates by kind, language, difficulty, topic; outcomes side by side."""

from pathlib import Path

from rich.console import Console

from kettlefield.cli.console import (
    chosen,
    estimate_json,
    make_console,
    make_table,
    print_heading,
    print_json,
    print_not_measured,
    print_note,
    print_table,
    safe,
)
from kettlefield.core.outcome import Outcome
from kettlefield.record.store import Record
from kettlefield.results.breakdown import FEW, pass_rates_by
from kettlefield.results.comparison import compare
from kettlefield.results.frames import campaign_facts, not_measured


def show_groups(path: Path, only: str | None, grouping: str, *, as_json: bool) -> None:
    """Print one row a group, one column a candidate."""
    record = Record.open(path)
    facts = campaign_facts(record)
    if grouping == "outcome":
        _show_outcomes(record, only, as_json=as_json)
        return
    found = chosen(pass_rates_by(record, grouping), only)
    if as_json:
        rows = [
            {
                "candidate": one.candidate,
                "group": one.group,
                "trials": one.trials,
                "solved": one.solved,
                "pass_rate": estimate_json(one.pass_rate),
                "few": one.few,
            }
            for one in found
        ]
        print_json({"simulated": facts["simulated"], "by": grouping, "groups": rows})
        return
    console = make_console()
    print_heading(console, facts["title"], simulated=facts["simulated"])
    names = list(dict.fromkeys(one.candidate for one in found))
    cells = {(one.group, one.candidate): one for one in found}
    table = make_table(grouping, *(f">{safe(name).plain}" for name in names))
    for group in sorted({one.group for one in found}):
        row = [cells.get((group, name)) for name in names]
        table.add_row(
            safe(group),
            *("-" if one is None else f"{one.solved} of {one.trials}" + (" ?" if one.few else "") for one in row),
        )
    print_table(console, table)
    print_not_measured(console, not_measured(record))
    print_note(
        console,
        f"solved at the first attempt, of the trials that count. ?: fewer than {FEW} trials; --json has the intervals.",
    )


def _show_outcomes(record: Record, only: str | None, *, as_json: bool) -> None:

    table = compare(record)
    rows = chosen(table.rows, only)
    if as_json:
        counts = [{"candidate": row.candidate, "outcomes": row.outcomes} for row in rows]
        print_json({"simulated": table.simulated, "by": "outcome", "candidates": counts})
        return
    console = make_console()
    _print_outcomes(console, {row.candidate: row.outcomes for row in rows}, table.title, simulated=table.simulated)
    print_not_measured(console, not_measured(record))


def _print_outcomes(console: Console, found: dict[str, dict[str, int]], title: str, *, simulated: bool) -> None:

    print_heading(console, title, simulated=simulated)
    names = [outcome.value for outcome in Outcome if any(outcome.value in counts for counts in found.values())]
    table = make_table("outcome", *(f">{safe(name).plain}" for name in found))
    for name in names:
        table.add_row(name, *(str(counts.get(name, 0) or "-") for counts in found.values()))
    print_table(console, table)
