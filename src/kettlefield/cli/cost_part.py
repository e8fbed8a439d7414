"""``kettlefield compare --part cost``: what each solved exercise costs, so that models can be compared."""

from pathlib import Path

from kettlefield.cli.console import (
    candidate_name,
    chosen,
    make_console,
    make_table,
    print_heading,
    print_json,
    print_not_measured,
    print_note,
    print_table,
)
from kettlefield.core.units import format_bytes, three_digits
from kettlefield.record.store import Record
from kettlefield.results.comparison import Figures, compare
from kettlefield.results.frames import not_measured
from kettlefield.results.memory_use import memories


def show_cost(path: Path, only: str | None, *, as_json: bool) -> None:
    """Print one row a candidate."""
    record = Record.open(path)
    table = compare(record)
    rows = chosen(table.rows, only)
    joules = {one.candidate: one.joules_per_solved for one in memories(record)}
    references = {row.model: row for row in table.rows if row.reference}
    if as_json:
        found = [
            {
                "candidate": row.candidate,
                "solved": row.solved,
                "seconds_per_solved": row.seconds_per_solved,
                "tokens_per_solved": row.tokens_per_solved,
                "byte_seconds_per_solved": row.byte_seconds_per_solved,
                "joules_per_solved": joules[row.candidate],
                "peak_bytes": row.peak_bytes,
                "peak_bytes_less_reference": _difference(row, references.get(row.model)),
            }
            for row in rows
        ]
        print_json({"simulated": table.simulated, "candidates": found})
        return
    console = make_console()
    print_heading(console, table.title, simulated=table.simulated)
    heads = (">solved", ">seconds", ">tokens", ">GiB x s", ">joules", ">peak memory", ">against its reference")
    shown = make_table("candidate", *heads)
    for row in rows:
        gap = _difference(row, references.get(row.model))
        gibibytes = row.byte_seconds_per_solved / 2**30 if row.byte_seconds_per_solved else None
        shown.add_row(
            candidate_name(row.candidate, reference=row.reference, baseline=row.baseline),
            f"{row.solved} of {row.trials}",
            *(
                three_digits(value) if value else "-"
                for value in (row.seconds_per_solved, row.tokens_per_solved, gibibytes, joules[row.candidate])
            ),
            format_bytes(row.peak_bytes),
            "-" if gap is None else f"{'-' if gap < 0 else '+'}{format_bytes(abs(gap))}",
        )
    print_table(console, shown)
    print_not_measured(console, not_measured(record))
    print_note(
        console,
        "seconds, tokens, memory times seconds and joules are for each solved exercise: all trials pay, those solved\n"
        "count. Tokens are the model's own and differ between models. Joules: - where this machine tells no energy.",
    )


def _difference(row: Figures, reference: Figures | None) -> int | None:
    """Peak memory less that of the reference level, in bytes."""
    if reference is None or row.reference or row.peak_bytes is None or reference.peak_bytes is None:
        return None
    return row.peak_bytes - reference.peak_bytes
