"""``kettlefield compare --part memory``: every phase, slopes, leaks and energy."""

import dataclasses
from pathlib import Path
from typing import TYPE_CHECKING

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
from kettlefield.core.plaintext import visible
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.units import format_bytes, three_digits
from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts
from kettlefield.results.memory_use import Memory, memories

if TYPE_CHECKING:
    from rich.console import Console


def show_memory(path: Path, only: str | None, *, as_json: bool) -> None:
    """Print memory and energy."""
    record = Record.open(path)
    facts, found = campaign_facts(record), tuple(chosen(memories(record), only))
    if as_json:
        rows = [{**dataclasses.asdict(row), "leaks": row.leaks} for row in found]
        print_json({"simulated": facts["simulated"], "candidates": rows})
        return
    console = make_console()
    print_heading(console, facts["title"], simulated=facts["simulated"])
    heads = (">peak", ">at its end", ">host", ">mapped files", ">accelerator", ">energy")
    name, table = Once(), make_table("candidate", "phase", *heads)
    for row in found:
        for phase in row.phases:
            sizes = (phase.peak_bytes, phase.end_bytes, phase.host_peak_bytes, phase.mapped_peak_bytes)
            joules = "-" if phase.energy_j is None else f"{phase.energy_j:,.1f} J"
            card = format_bytes(phase.accelerator_peak_bytes)
            table.add_row(name(row.candidate), phase.phase, *map(format_bytes, sizes), card, joules)
    print_table(console, table)
    _print_less(console, found)
    name, table = Once(), make_table("candidate", "memory grows with", ">by", "95 % interval", ">n", ">by the header")
    for row in found:
        for what, slope, header in _slopes(row):
            table.add_row(name(row.candidate), what, *_signed(slope), header)
    print_table(console, table)
    name, table = Once(), make_table("candidate", ">accelerator in use before", ">energy a token", ">a solved exercise")
    for row in found:
        baseline = "-" if row.baseline_bytes is None else format_bytes(row.baseline_bytes)
        table.add_row(name(row.candidate), baseline, *_energy(row))
    print_table(console, table)
    print_note(
        console,
        "host: the server's processes, shared pages divided (PSS); mapped files are the part of it that the page\n"
        "cache holds, such as weights. A server that takes its whole key/value cache at the start does not grow with\n"
        "context or streams. Less than: what the server itself takes cancels out. Energy: " + _sources(found) + ".",
    )


def _print_less(console: "Console", found: tuple[Memory, ...]) -> None:
    """Measured and predicted differences between levels, where there are any."""
    table = make_table("candidate", ">once loaded", "less than", ">measured", ">by the files")
    for row in found:
        less = row.less_than_reference
        if less is not None:
            table.add_row(
                safe(row.candidate, "bold"),
                format_bytes(row.loaded_bytes),
                safe(less.reference),
                _sized(less.loaded_bytes),
                _sized(less.weights_bytes),
            )
    if table.row_count:
        print_table(console, table)


def _sized(count: float) -> str:
    return ("-" if count < 0 else "") + format_bytes(abs(round(count)))


def _slopes(row: Memory) -> list[tuple[str, Estimate | None, str]]:

    header = "" if row.predicted_token_bytes is None else format_bytes(row.predicted_token_bytes)
    return [
        ("each token of context", row.token_slope_bytes, header),
        ("each further stream", row.stream_slope_bytes, ""),
        ("each request" + (": IT LEAKS" if row.leaks else ""), row.leak_bytes, ""),
    ]


def _energy(row: Memory) -> list[str]:

    if row.energy_from is None:
        return ["not available here", "not available here"]
    return [
        "-" if value is None else f"{three_digits(value)} J" for value in (row.joules_per_token, row.joules_per_solved)
    ]


def _sources(found: tuple[Memory, ...]) -> str:

    names = sorted({row.energy_from for row in found if row.energy_from is not None})
    return (
        f"reported by {', '.join(map(visible, names))}; a token and a solved exercise: of the answers part"
        if names
        else "not available here"
    )


def _signed(found: Estimate | None) -> tuple[str, str, str]:
    """A slope, its interval and its samples."""
    if found is None:
        return "-", "not measured", ""
    low, value, high = (
        _sized(number) if number is not None else "?" for number in (found.low, found.value, found.high)
    )
    return value, f"{low} to {high}", str(found.n)
