"""``kettlefield compare --part speed``: every timing procedure, candidates side by side."""

import dataclasses
from pathlib import Path
from typing import Any

from rich.console import Console

from kettlefield.cli.console import (
    Once,
    chosen,
    make_console,
    make_table,
    print_heading,
    print_json,
    print_note,
    print_table,
    safe,
)
from kettlefield.core.measures import Unit
from kettlefield.core.statistics.estimate import with_interval
from kettlefield.core.units import format_bytes, format_duration, three_digits
from kettlefield.record.store import Record
from kettlefield.results.capacity import Capacity, Floor, floor_of
from kettlefield.results.comparison import Comparison, compare
from kettlefield.results.speed import Cell, Timing, timings


def show_speed(path: Path, only: str | None, *, as_json: bool) -> None:
    """Print what was timed."""
    record = Record.open(path)
    table, found = compare(record), tuple(chosen(timings(record), only))
    table = dataclasses.replace(table, rows=tuple(chosen(table.rows, only)))
    if as_json:
        print_json({"simulated": table.simulated, "candidates": [dataclasses.asdict(row) for row in found]})
        return
    console, floor = make_console(), floor_of(record)
    print_heading(console, table.title, simulated=table.simulated)
    _print_alone(console, found, floor)
    _print_itl(console, found, floor)
    _print_depth(console, found, floor)
    _print_cache(console, found, floor)
    _print_closed_loop(console, found, floor)
    _print_capacity(console, found)
    _print_loads(console, found)
    _print_words(console, table)
    for row in found:
        for line in _remarks(row):
            console.print(safe(f"! {row.candidate}: {line}", "yellow"))
    console.print(floor.words(), style="dim")


def _print_alone(console: Console, found: tuple[Timing, ...], floor: Floor) -> None:

    heads = (">n", ">first token p50", ">p95", ">decode p50, tokens/s", ">prefill, tokens/s")
    name, table = Once(), make_table("candidate", "one at a time", *heads)
    for row in found:
        for cell in row.latency:
            prefill = cell.doubt.partition(":")[0] or _plain(cell.prefill_tps)
            table.add_row(name(row.candidate), *_cells(cell, floor), prefill)
    if table.row_count:
        print_table(console, table)


def _print_itl(console: Console, found: tuple[Timing, ...], floor: Floor) -> None:

    heads = (
        ">gap p50",
        ">p95",
        ">p99",
        ">longest",
        ">n",
        ">first token, x reference",
        ">decode, x reference",
        ">drift",
    )
    name, table = Once(), make_table("candidate", *heads)
    for row in found:
        gaps = row.itl
        if gaps is None:
            continue
        drift = "no significant drift" if row.drift is None else f"x {row.drift:.2f}"
        table.add_row(
            name(row.candidate),
            *(floor.show(value) for value in (gaps.p50_s, gaps.p95_s, gaps.p99_s, gaps.max_s)),
            f"{gaps.n:,}",
            with_interval(row.ttft_ratio, Unit.RATIO),
            with_interval(row.decode_ratio, Unit.RATIO),
            drift,
        )
    if table.row_count:
        print_table(console, table)
        print_note(
            console,
            "gap: between events with text. x reference: medians over the reference level's at the same points, with\n"
            "the 95 % interval. drift: decode rate of the last third of the requests over that of the first.",
        )


def _print_depth(console: Console, found: tuple[Timing, ...], floor: Floor) -> None:

    name, table = (
        Once(),
        make_table("candidate", ">context filled to", ">n", ">first token p50", ">p95", ">decode p50, tokens/s"),
    )
    for row in found:
        for cell in row.depth.cells:
            table.add_row(name(row.candidate), *_cells(cell, floor))
    if not table.row_count:
        return
    print_table(console, table)
    for row in found:
        for line in _depth_words(row):
            console.print(safe(f"{row.candidate}: {line}"))


def _depth_words(row: Timing) -> list[str]:
    found, lines = row.depth, []
    if found.slope_tps is not None:
        slope = found.slope_tps
        low, high = (0.0 if bound is None else bound for bound in (slope.low, slope.high))
        lines.append(f"every 1,000 tokens deeper: {slope.value:+.1f} ({low:+.1f} to {high:+.1f}) tokens/s")
    if found.floor_tps and found.cells:
        where = found.floor_depth_tokens
        at = "at no depth that was tried" if where is None else f"from about {where:,.0f} tokens on"
        lines.append(f"decodes below {found.floor_tps:g} tokens/s {at}")
    if found.past_window is not None:
        lines.append(f"past its window: {found.past_window}")
    return lines


def _print_cache(console: Console, found: tuple[Timing, ...], floor: Floor) -> None:

    name, table = (
        Once(),
        make_table("candidate", "prompt", ">n", ">first token p50", ">p95", ">decode p50, tokens/s", ">x a new one"),
    )
    for row in found:
        for cell in row.prompt_cache:
            again = cell is row.prompt_cache[-1] and len(row.prompt_cache) > 1
            table.add_row(
                name(row.candidate),
                *_cells(cell, floor),
                with_interval(row.prompt_cache_ratio, Unit.RATIO) if again else "",
            )
        for cell in row.system:
            table.add_row(name(row.candidate), *_cells(cell, floor, lead="long system prompt, "), "")
    if table.row_count:
        print_table(console, table)


def _print_closed_loop(console: Console, found: tuple[Timing, ...], floor: Floor) -> None:

    heads = (">n", ">first token p50", ">p95", ">each decodes p50, tokens/s", ">in all, tokens/s", "")
    name, table = Once(), make_table("candidate", ">clients", *heads)
    for row in found:
        for cell, rate in zip(row.closed_loop.cells, row.closed_loop.rates_tps, strict=True):
            saturation = (
                "saturation"
                if row.closed_loop.saturation_concurrency is not None
                and cell.label == str(row.closed_loop.saturation_concurrency)
                else ""
            )
            table.add_row(name(row.candidate), *_cells(cell, floor), _plain(rate), saturation)
    if table.row_count:
        print_table(console, table)
        print_note(console, "saturation: twice the clients bring less than a tenth more beyond it.")


def _print_capacity(console: Console, found: tuple[Timing, ...]) -> None:

    name, table = (
        Once(),
        make_table("candidate", ">holds at, requests/s", ">fails at", ">rates tried", ">engineers served", "ended"),
    )
    for row in found:
        capacity = row.capacity
        if capacity is not None:
            table.add_row(
                name(row.candidate),
                _plain(capacity.holds_rps),
                _plain(capacity.fails_rps),
                str(len(capacity.tries)),
                _engineers(capacity),
                capacity.why_ended,
            )
    if table.row_count:
        print_table(console, table)
        print_note(
            console,
            "capacity: the highest rate of random arrivals at which the plan's limits on first token (p95, from the\n"
            "scheduled moment) and decode rate (p10) hold; engineers by the plan's requests an engineer and hour.",
        )


def _engineers(capacity: Capacity) -> str:
    if capacity.engineers is None:
        return "-"
    return ("at least " if capacity.fails_rps is None else "") + f"{capacity.engineers:,}"


def _print_loads(console: Console, found: tuple[Timing, ...]) -> None:

    name, table = Once(), make_table("candidate", "load", ">until ready", ">until the first token", ">weights read at")
    for row in found:
        for load in row.loads:
            rate = "-" if load.bytes_s is None else f"{format_bytes(round(load.bytes_s))}/s"
            first = format_duration(load.first_answer_s)
            table.add_row(name(row.candidate), load.kind, format_duration(load.load_s), first, rate)
    if table.row_count:
        print_table(console, table)


def _print_words(console: Console, found: Comparison) -> None:

    heads = (">thinking tokens an exercise", ">answer tokens", ">first answer token p50")
    name, table = Once(), make_table("candidate", *heads)
    for row in found.rows:
        if row.answer_tokens is not None:
            first = format_duration(row.answer_ttft_s)
            table.add_row(name(row.candidate), _plain(row.thinking_tokens), _plain(row.answer_tokens), first)
    if table.row_count:
        print_table(console, table)


def _remarks(row: Timing) -> list[str]:
    remarks = [f"{step} ended early: {why}" for step, why in row.ended.items() if why not in {"done", "precise"}]
    if row.without_usage:
        remarks.append(f"the server counted no tokens in {row.without_usage} requests; events were counted instead")
    if row.odd_usage:
        remarks.append(f"in {row.odd_usage} requests the server counts fewer tokens than it sent events with text")
    if row.short_replies:
        remarks.append(f"{row.short_replies} timed replies ended before the length that was asked for")
    return remarks


def _cells(cell: Cell, floor: Floor, *, lead: str = "") -> list[Any]:

    unit = Unit.TOKENS_PER_SECOND
    count = f"{cell.n}" + (f" ({cell.disturbed} disturbed)" if cell.disturbed else "")
    if cell.doubt:
        return [lead + cell.label, count, *[cell.doubt.partition(":")[0]] * 3]
    return [
        lead + cell.label,
        count,
        floor.show(cell.ttft_s),
        floor.show(cell.ttft_p95_s),
        with_interval(cell.decode_tps, unit).removesuffix(f" {unit.value}"),
    ]


def _plain(value: float | None) -> str:

    return "-" if value is None else three_digits(value)
