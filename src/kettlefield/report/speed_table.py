"""Speed with one request at a time, as the terminal and the report's page both show it."""

from kettlefield.analysis.contrast import Figures
from kettlefield.analysis.floor import Floor
from kettlefield.core.measures import MEASURES, Unit
from kettlefield.core.units import format_duration
from kettlefield.core.wording import with_interval

SHOWN = ("first_token_s.p50", "first_token_s.p95", "decode_rate_tps.p50", "decode_rate_tps.p10")
HEADS = (
    *(">first token p50", ">first token p95", ">decode p50, tokens/s", ">decode p10, tokens/s"),
    *(">of ceiling", ">n", ">load"),
)


def speed_cells(row: Figures, floor: Floor) -> tuple[str, ...]:
    """One candidate's cells under `HEADS`; no duration is shown below the stopwatch's own error."""
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
    count = str(len(row.speed["first_token_s"])) + (f", {row.disturbed} disturbed" if row.disturbed else "")
    load = "disturbed" if "load_s" in row.doubts else format_duration(row.load_s)
    return (*cells, share, count, load + (f", {row.load_kind}" if row.load_kind else ""))
