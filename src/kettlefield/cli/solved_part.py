"""``kettlefield compare --part solved``: at the first attempt, after repair turns, in several samples, in part."""

from pathlib import Path

from kettlefield.cli.console import (
    candidate_name,
    chosen,
    estimate_json,
    make_console,
    make_table,
    print_heading,
    print_json,
    print_not_measured,
    print_note,
    print_table,
)
from kettlefield.core.measures import Unit
from kettlefield.core.statistics.estimate import in_words
from kettlefield.record.store import Record
from kettlefield.results.comparison import compare
from kettlefield.results.frames import not_measured


def show_solved(path: Path, only: str | None, *, as_json: bool) -> None:
    """Print one row a candidate."""
    record = Record.open(path)
    table = compare(record)
    rows = chosen(table.rows, only)
    if as_json:
        found = [
            {
                "candidate": row.candidate,
                "trials": row.trials,
                "pass_rate": estimate_json(row.pass_rate),
                "solved": row.solved,
                "solved_after_repair": row.solved_after_repair,
                "score": row.score,
                "pass_at_k": row.pass_at_k,
            }
            for row in rows
        ]
        print_json({"simulated": table.simulated, "candidates": found})
        return
    console = make_console()
    print_heading(console, table.title, simulated=table.simulated)
    turns = sorted({turn for row in rows for turn in row.solved_after_repair})
    samples = sorted({k for row in rows for k in row.pass_at_k if k > 1})
    shown = make_table(
        "candidate",
        "first attempt (95 % interval)",
        *(f">after {turn} repair" for turn in turns),
        ">mean score",
        *(f">one of {k} samples" for k in samples),
    )
    for row in rows:
        # this many repair turns or fewer: what a user who sends errors back would have got
        repaired = [
            row.solved + sum(count for needed, count in row.solved_after_repair.items() if needed <= t) for t in turns
        ]
        shown.add_row(
            candidate_name(row.candidate, reference=row.reference, baseline=row.baseline),
            in_words(row.pass_rate, Unit.RATIO),
            *(f"{count / row.trials:.2f}" if row.trials else "-" for count in repaired),
            "-" if row.score is None else f"{row.score:.2f}",
            *(f"{row.pass_at_k[k]:.2f}" if k in row.pass_at_k else "-" for k in samples),
        )
    print_table(console, shown)
    print_not_measured(console, not_measured(record))
    print_note(
        console,
        "score: weighted share of the checks that passed. One of k samples: chance that at least one of k passes,\n"
        "in the mean over exercises, by the unbiased estimator. * marks the reference level.",
    )
