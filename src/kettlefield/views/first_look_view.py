"""A first look as one table, what stands out, and what to do next."""

from collections.abc import Sequence
from typing import Any

from kettlefield.core.statistics.estimate import Estimate
from kettlefield.record.store import Record
from kettlefield.results.capacity import Floor, floor_of
from kettlefield.results.comparison import compare
from kettlefield.results.first_look import Look, findings, looks
from kettlefield.results.frames import notes
from kettlefield.results.speed import Cell
from kettlefield.views.comparison_view import figures_json
from kettlefield.views.table import (
    Align,
    Column,
    Table,
    View,
    Words,
    candidate_text,
    duration,
    estimate_json,
    number,
    percent,
    present,
    size,
    table,
    words,
)


def first_look_view(record: Record, left_out: Sequence[str], budget_bytes: int, *, next_steps: Sequence[str]) -> View:
    """A record of a first look, however far it came.

    Parameters
    ----------
    record : Record
        An open record.
    left_out : sequence of str
        Files that were not tried, each with its reason.
    budget_bytes : int
        Memory that a candidate may take.
    next_steps : sequence of str
        What can be done now, a line each.

    Raises
    ------
    InputError
        No campaign was begun in it.
    """
    found = looks(record)
    stands_out = findings(found, left_out, budget_bytes)
    simulated = compare(record).simulated
    return View(
        title="A first look",
        simulated=simulated,
        parts=present(
            look_table(found, floor_of(record)),
            *(Words(text=text, tone="strong") for text in stands_out),
            *(Words(text=f"! {text}", tone="warning") for text in notes(record)),
            Words(text="Nothing was decided: no criteria were set."),
            *(Words(text=text, folds=False) for text in next_steps),
        ),
        document={
            "simulated": simulated,
            "decided": False,
            "budget_bytes": budget_bytes,
            "findings": stands_out,
            "left_out": list(left_out),
            "candidates": [_look_json(look) for look in found],
        },
    )


def look_table(found: Sequence[Look], floor: Floor) -> Table | None:
    """One row a candidate, with first token and decode rate at both prompt lengths."""
    lengths = max((look.cells for look in found), key=len, default=())
    heads = [f"{cell.prompt_tokens:,.0f} in" if cell.prompt_tokens else cell.label for cell in lengths]
    return table(
        "Speed, memory and answers at a first look",
        [
            words("candidate"),
            duration("load"),
            *(duration(f"TTFT, {head}", floor.show) for head in heads),
            *(number(f"tokens/s, {head}") for head in heads),
            percent("of ceiling"),
            size("peak memory"),
            Column(name="solved", align=Align.RIGHT),
            words("other outcomes"),
        ],
        [(candidate_text(look.figures), *_cells(look, len(heads))) for look in found],
        note="Medians of few requests, one at a time; tokens/s: of decoding. Ceiling: bandwidth over the bytes that "
        "one token reads. * marks the level with the most bits a weight.",
    )


def _cells(look: Look, lengths: int) -> tuple[Any, ...]:
    cells = [*look.cells, *([None] * (lengths - len(look.cells)))]
    solved = f"{look.figures.solved} of {look.figures.trials}" if look.figures.trials else None
    others = ", ".join(f"{count} {name}" for name, count in look.figures.outcomes.items() if name != "passed")
    return (
        look.figures.load_s,
        *(_median(cell, "ttft_s") for cell in cells),
        *(_median(cell, "decode_tps") for cell in cells),
        look.ceiling_share,
        look.figures.peak_bytes,
        solved,
        others or ("none" if look.figures.trials else None),
    )


def _median(cell: Cell | None, field: str) -> float | str | None:
    if cell is None or cell.doubt:
        return None if cell is None else "disturbed"
    estimate: Estimate | None = getattr(cell, field)
    return None if estimate is None else estimate.value


def _look_json(look: Look) -> dict[str, Any]:
    return {
        **figures_json(look.figures),
        "context_tokens": look.context_tokens,
        "wrong_style": list(look.wrong_style),
        "latency": [
            {
                "label": cell.label,
                "prompt_tokens": cell.prompt_tokens,
                "n": cell.n,
                "doubt": cell.doubt,
                "ttft_s": estimate_json(cell.ttft_s),
                "decode_tps": estimate_json(cell.decode_tps),
            }
            for cell in look.cells
        ],
    }
