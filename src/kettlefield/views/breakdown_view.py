"""Pass rates by what exercises are, and outcomes, candidates side by side."""

from collections.abc import Mapping, Sequence

from kettlefield.core.outcome import Outcome
from kettlefield.record.store import Record
from kettlefield.results.breakdown import FEW, Group, pass_rates_by
from kettlefield.results.comparison import compare
from kettlefield.results.frames import campaign_facts
from kettlefield.views.choice import chosen, estimate_json
from kettlefield.views.cost_view import left_out_words
from kettlefield.views.table import Align, Column, Table, View, count, present, table, words


def groups_view(record: Record, grouping: str, only: str | None = None) -> View:
    """One row a group, one column a candidate."""
    facts, rows = campaign_facts(record), chosen(pass_rates_by(record, grouping), only)
    return View(
        title=facts["title"],
        simulated=facts["simulated"],
        parts=present(groups_table(rows, grouping), *left_out_words(record)),
        document={
            "simulated": facts["simulated"],
            "by": grouping,
            "groups": [
                {
                    "candidate": one.candidate,
                    "group": one.group,
                    "trials": one.trials,
                    "solved": one.solved,
                    "pass_rate": estimate_json(one.pass_rate),
                    "few": one.few,
                }
                for one in rows
            ],
        },
    )


def outcomes_view(record: Record, only: str | None = None) -> View:
    """How trials ended."""
    found = compare(record)
    rows = chosen(found.rows, only)
    return View(
        title=found.title,
        simulated=found.simulated,
        parts=present(outcomes_table({row.candidate: row.outcomes for row in rows}), *left_out_words(record)),
        document={
            "simulated": found.simulated,
            "by": "outcome",
            "candidates": [{"candidate": row.candidate, "outcomes": row.outcomes} for row in rows],
        },
    )


def groups_table(rows: Sequence[Group], grouping: str) -> Table | None:
    """Solved by kind, language, difficulty or topic."""
    names = list(dict.fromkeys(one.candidate for one in rows))
    cells = {(one.group, one.candidate): one for one in rows}
    return table(
        f"Solved by {grouping}",
        [words(grouping), *(Column(name=name, align=Align.RIGHT, show=_solved) for name in names)],
        [(group, *(cells.get((group, name)) for name in names)) for group in sorted({one.group for one in rows})],
        note=f"At the first attempt, of the trials that count. ?: fewer than {FEW} trials, too few to say much; "
        "--json has "
        "the intervals.",
    )


def _solved(one: Group) -> str:
    return f"{one.solved} of {one.trials}" + (" ?" if one.few else "")


def outcomes_table(found: Mapping[str, Mapping[str, int]]) -> Table | None:
    """How trials ended, repair turns included; ``found`` holds counts by candidate and outcome."""
    seen = [outcome.value for outcome in Outcome if any(outcome.value in counts for counts in found.values())]
    return table(
        "How trials ended, repair turns included",
        [words("outcome"), *(count(name) for name in found)],
        [(name, *(counts.get(name) or None for counts in found.values())) for name in seen],
    )
