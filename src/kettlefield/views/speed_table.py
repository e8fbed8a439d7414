"""Speed with one request at a time, as the terminal and the report's page both show it."""

from collections.abc import Sequence

from kettlefield.core.measures import MEASURES, Unit
from kettlefield.core.statistics.estimate import with_interval
from kettlefield.core.units import format_duration
from kettlefield.results.capacity import Floor
from kettlefield.results.comparison import Figures

SHOWN = ("ttft_s.p50", "ttft_s.p95", "decode_tps.p50", "decode_tps.p10")
_HEADS = (
    *(">first token p50", ">first token p95", ">decode p50, tokens/s", ">decode p10, tokens/s"),
    *(">of ceiling", ">n"),
)


def speed_table(rows: Sequence[Figures], floor: Floor) -> tuple[tuple[str, ...], list[tuple[str, ...]]]:
    """Heads and one row of cells a candidate; no duration is shown below the stopwatch's own error.

    Loads of one kind say it in the head; where candidates were loaded in different ways, each cell does.
    """
    kinds = {row.load_kind for row in rows if row.load_kind}
    kind = next(iter(kinds)) if len(kinds) == 1 else None
    heads = (*_HEADS, f">load,\n{kind}" if kind else ">load")
    return heads, [_cells(row, floor, with_kind=kind is None) for row in rows]


def _cells(row: Figures, floor: Floor, *, with_kind: bool) -> tuple[str, ...]:
    cells = []
    for name in SHOWN:
        unit = MEASURES[name].unit
        if doubt := row.doubts.get(MEASURES[name].field or ""):
            cells.append(doubt.partition(":")[0])
            continue
        found = row.estimate(MEASURES[name], confidence=0.95)
        cell = floor.show(found) if unit is Unit.SECONDS else with_interval(found, unit)
        cells.append(cell.removesuffix(f" {unit.value}") if unit is Unit.TOKENS_PER_SECOND else cell)
    digits = 0 if (row.ceiling_share or 0) >= 0.1 else 1
    share = "-" if row.ceiling_share is None else f"{row.ceiling_share:.{digits}%}"
    count = str(len(row.speed["ttft_s"])) + (f", {row.disturbed} disturbed" if row.disturbed else "")
    load = "disturbed" if "load_s" in row.doubts else format_duration(row.load_s)
    return (*cells, share, count, load + (f", {row.load_kind}" if with_kind and row.load_kind else ""))
