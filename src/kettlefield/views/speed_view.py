"""Every timing procedure, candidates side by side."""

from collections.abc import Callable, Sequence
from typing import Any

from kettlefield.core.as_dict import as_dict
from kettlefield.record.store import Record
from kettlefield.results.capacity import Floor, floor_of
from kettlefield.results.comparison import Figures, compare
from kettlefield.results.server_words import server_words
from kettlefield.results.speed import Cell, Timing, timings
from kettlefield.views.server_words_view import counter_words, counters_table, gauges_table
from kettlefield.views.table import (
    Align,
    Column,
    Table,
    View,
    Words,
    chosen,
    count,
    duration,
    number,
    present,
    rate,
    share,
    size,
    table,
    words,
)

GOOD_ENDS = frozenset({"done", "precise"})


def speed_view(record: Record, only: str | None = None) -> View:
    """What was timed.

    Raises
    ------
    InputError
        No campaign was begun, or the pattern matches nothing.
    """
    compared, rows, floor = compare(record), chosen(timings(record), only), floor_of(record)
    said = server_words(record).of({row.candidate for row in rows})
    return View(
        title=compared.title,
        simulated=compared.simulated,
        parts=present(
            latency_table(rows, floor),
            itl_table(rows, floor),
            depth_table(rows, floor),
            *(Words(text=f"{row.candidate}: {text}") for row in rows for text in depth_words(row)),
            prompt_cache_table(rows, floor),
            closed_loop_table(rows, floor),
            capacity_table(rows),
            counters_table(said),
            gauges_table(said),
            *counter_words(said),
            loads_table(rows),
            thinking_table(chosen(compared.rows, only)),
            *(Words(text=f"! {text}", tone="warning") for text in remarks(rows)),
            Words(text=floor.words(), tone="small"),
        ),
        document={
            "simulated": compared.simulated,
            "candidates": [as_dict(row) for row in rows],
            "server_counters": [{**as_dict(one), "agrees": one.agrees} for one in said.counted],
        },
    )


def latency_table(rows: Sequence[Timing], floor: Floor) -> Table | None:
    """The grid: one request at a time."""
    return table(
        "Time to first token and decode rate, one request at a time",
        [*_head("prompt and reply", floor), rate("prefill")],
        [(row.candidate, *_cells(cell), _doubt(cell) or cell.prefill_tps) for row in rows for cell in row.latency],
    )


def itl_table(rows: Sequence[Timing], floor: Floor) -> Table | None:
    """Inter-token latency, and medians over the reference level's."""
    return table(
        "Inter-token latency",
        [
            words("candidate"),
            *(duration(name, floor.show) for name in ("ITL p50", "p95", "p99", "longest")),
            count("n"),
            share("TTFT, x reference"),
            share("decode, x reference"),
            Column(name="drift", align=Align.RIGHT, show="x {:.2f}".format),
        ],
        [
            (
                *(row.candidate, row.itl.p50_s, row.itl.p95_s, row.itl.p99_s, row.itl.max_s, row.itl.n),
                *(row.ttft_ratio, row.decode_ratio, "no significant drift" if row.drift is None else row.drift),
            )
            for row in rows
            if row.itl is not None
        ],
        note="Between events with text. x reference: medians over the reference level's at the same points, with the "
        "95 % "
        "interval. Drift: decode rate of the last third of the requests over that of the first.",
    )


def depth_table(rows: Sequence[Timing], floor: Floor) -> Table | None:
    """Speed as the context fills."""
    return table(
        "Speed at each context depth",
        _head("context depth", floor),
        [(row.candidate, *_cells(cell)) for row in rows for cell in row.depth.cells],
    )


def depth_words(row: Timing) -> list[str]:
    """What a candidate's depth procedure found, in sentences."""
    said, lines = row.depth, []
    if said.slope_tps is not None:
        slope = said.slope_tps
        low, high = (0.0 if bound is None else bound for bound in (slope.low, slope.high))
        lines.append(f"every 1,000 tokens of depth: {slope.value:+.1f} ({low:+.1f} to {high:+.1f}) tokens/s")
    if said.floor_tps and said.cells:
        depth = said.floor_depth_tokens
        at = "at no depth that was tried" if depth is None else f"from about {depth:,.0f} tokens"
        lines.append(f"decodes below {said.floor_tps:g} tokens/s {at}")
    if said.past_window is not None:
        lines.append(f"past its window: {said.past_window}")
    return lines


def prompt_cache_table(rows: Sequence[Timing], floor: Floor) -> Table | None:
    """Prompts asked twice, and short requests under one system prompt."""
    cells: list[tuple[Any, ...]] = []
    for row in rows:
        for cell in row.prompt_cache:
            again = cell is row.prompt_cache[-1] and len(row.prompt_cache) > 1
            cells.append((row.candidate, *_cells(cell), row.prompt_cache_ratio if again else ""))
        cells += [(row.candidate, *_cells(cell, lead="long system prompt, "), "") for cell in row.system]
    return table("Prompt cache", [*_head("prompt", floor), share("TTFT, x a new prompt")], cells)


def closed_loop_table(rows: Sequence[Timing], floor: Floor) -> Table | None:
    """Several requests in flight."""
    cells = []
    for row in rows:
        loop = row.closed_loop
        for cell, total in zip(loop.cells, loop.rates_tps, strict=True):
            saturated = loop.saturation_concurrency is not None and cell.label == str(loop.saturation_concurrency)
            together = "disturbed" if cell.disturbed else total
            cells.append((row.candidate, *_cells(cell), together, "saturation point" if saturated else ""))
    return table(
        "Closed-loop load",
        [*_head("concurrency", floor, align=Align.RIGHT, decode="decode of each p50"), rate("all together"), words("")],
        cells,
        note="Saturation point: beyond it twice the concurrency brings less than a tenth more; not said where the "
        "host was busy.",
    )


def capacity_table(rows: Sequence[Timing]) -> Table | None:
    """The highest rate of random arrivals at which the limits hold."""
    known = [(row.candidate, row.capacity) for row in rows if row.capacity is not None]
    engineers = any(capacity.engineers is not None for _, capacity in known)
    in_doubt = [
        f"{name} did not hold {capacity.fails_rps:.3g} requests/s while the host was busy ({capacity.disturbed}): its"
        " capacity may be higher"
        for name, capacity in known
        if capacity.disturbed
    ]
    return table(
        "Capacity under open-loop load",
        [
            words("candidate"),
            number("holds at", "requests/s"),
            number("fails at", "requests/s"),
            count("rates tried"),
            *((Column(name="engineers", align=Align.RIGHT),) if engineers else ()),
            words("ended"),
        ],
        [
            (
                *(name, capacity.holds_rps, capacity.fails_rps, len(capacity.tries)),
                *((_engineers(capacity.engineers, at_least=capacity.fails_rps is None),) if engineers else ()),
                capacity.why_ended,
            )
            for name, capacity in known
        ],
        note="The highest rate of random arrivals at which the plan's limits on TTFT (p95, from the scheduled "
        "moment) and "
        "decode rate (p10) hold."
        + (" Engineers: by the plan's requests per engineer and hour." if engineers else "")
        + "".join(f" {said}." for said in in_doubt),
    )


def _engineers(value: int | None, *, at_least: bool) -> str | None:
    return None if value is None else ("at least " if at_least else "") + f"{value:,}"


def loads_table(rows: Sequence[Timing]) -> Table | None:
    """Every start of the server."""
    return table(
        "Loading the weights",
        [
            words("candidate", once=True),
            words("load"),
            duration("until ready"),
            duration("until the first token"),
            Column(name="weights read at", align=Align.RIGHT, show=lambda value: f"{size('').show(value)}/s"),
        ],
        [
            (
                *(row.candidate, load.kind + (", disturbed" if load.disturbed else "")),
                *(load.load_s, load.first_answer_s, load.bytes_s),
            )
            for row in rows
            for load in row.loads
        ],
    )


def thinking_table(rows: Sequence[Figures]) -> Table | None:
    """Thinking apart from answers."""
    return table(
        "Tokens of thinking and of the answer",
        [
            words("candidate"),
            number("thinking tokens a trial"),
            number("answer tokens a trial"),
            duration("answer TTFT p50"),
        ],
        [
            (row.candidate, row.thinking_tokens, row.answer_tokens, row.answer_ttft_s)
            for row in rows
            if row.answer_tokens is not None
        ],
    )


def remarks(rows: Sequence[Timing]) -> list[str]:
    """What a reader should know of how it was timed."""
    said = []
    for row in rows:
        said += [
            f"{row.candidate}: {step} ended early: {why}" for step, why in row.ended.items() if why not in GOOD_ENDS
        ]
        for number_of, text in (
            (row.without_usage, "the server counted no tokens in {} of the requests; events were counted instead"),
            (row.odd_usage, "in {} of the requests the server counts fewer tokens than it sent events with text"),
            (row.short_replies, "{} of the timed replies ended before the length that was asked for"),
        ):
            if number_of:
                said.append(f"{row.candidate}: {text.format(f'{number_of:,}')}")
    return said


def _head(label: str, floor: Floor, *, align: Align = Align.LEFT, decode: str = "decode p50") -> tuple[Column, ...]:
    show: Callable[[Any], str] = floor.show
    return (
        words("candidate", once=True),
        Column(name=label, align=align),
        Column(name="n", align=Align.RIGHT),
        duration("TTFT p50", show),
        duration("p95", show),
        rate(decode),
    )


def _cells(cell: Cell, *, lead: str = "") -> tuple[Any, ...]:
    samples = str(cell.n) + (f" ({cell.disturbed} disturbed)" if cell.disturbed else "")
    doubt = _doubt(cell)
    figures = (doubt, doubt, doubt) if doubt else (cell.ttft_s, cell.ttft_p95_s, cell.decode_tps)
    return (lead + cell.label, samples, *figures)


def _doubt(cell: Cell) -> str:
    return cell.doubt.partition(":")[0]
