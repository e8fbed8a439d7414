"""What commands print with: tables, plain words for intervals, JSON, text of others made safe."""

import fnmatch
import json
import os
import shutil
import sys
from collections.abc import Sequence
from typing import Any, Literal, Protocol, TypeVar

import pandas as pd
from rich.box import Box
from rich.console import Console
from rich.measure import Measurement
from rich.table import Table
from rich.text import Text

from kettlefield.core.errors import InputError
from kettlefield.core.plaintext import visible
from kettlefield.core.statistics.estimate import Estimate


class OfCandidate(Protocol):
    """A row about one candidate."""

    @property
    def candidate(self) -> str:
        """Its name."""
        ...


C = TypeVar("C", bound=OfCandidate)
PIPE_WIDTH = 180  # off a terminal nothing is cut; wide tables stay whole
_UNBOUND = 10_000  # columns: wider than any table
_ROOM_FOR_NOTES = 112  # columns: notes are broken by hand below that
_LEAST_WORDS = 28  # columns in which words can still be read when they fold
_LINES = Box("    \n    \n -- \n    \n    \n    \n    \n    \n")
STATUS_STYLES = {
    "met": "green",
    "not met": "red",
    "undecided": "yellow",
    "approved": "bold green",
    "rejected": "bold red",
    "passed": "green",
    "server-fault": "magenta",
    "rig-fault": "magenta",
}


def make_console(*, stderr: bool = False) -> Console:
    """A console on stdout or stderr: no colour off a terminal or with NO_COLOR set."""
    stream = sys.stderr if stderr else sys.stdout
    plain = bool(os.environ.get("NO_COLOR")) or not stream.isatty()
    width = shutil.get_terminal_size().columns if stream.isatty() or "COLUMNS" in os.environ else PIPE_WIDTH
    colours: Literal["auto"] | None = None if plain else "auto"  # None: no codes at all, bold ones included
    return Console(
        file=stream, color_system=colours, width=width, highlight=False, markup=False, soft_wrap=False, emoji=False
    )


def chosen(rows: Sequence[C], pattern: str | None) -> list[C]:
    """The rows whose candidate a pattern leaves.

    Raises
    ------
    InputError
        It matches none.
    """
    found = [row for row in rows if pattern is None or fnmatch.fnmatchcase(row.candidate, pattern)]
    if rows and not found:
        names = ", ".join(visible(row.candidate, keep_lines=False) for row in rows)
        raise InputError(f'"{visible(pattern or "")}" matches no candidate', "--only", f"Known here: {names}.")
    return found


def print_json(document: Any) -> None:
    """One JSON document on stdout and nothing else."""
    json.dump(document, sys.stdout, indent=2, ensure_ascii=True, allow_nan=False)
    sys.stdout.write("\n")


def print_csv(rows: Sequence[dict[str, Any]]) -> None:
    """Rows as CSV on stdout (RFC 4180, lines ended by a line feed): what is nested becomes ``outer.inner``.

    A text that a spreadsheet would take for a formula is led by an apostrophe.
    """
    frame = pd.json_normalize([{name: _flat(value) for name, value in row.items()} for row in rows])
    frame.map(lambda cell: f"'{cell}" if isinstance(cell, str) and cell[:1] in "=+-@" and cell else cell).to_csv(
        sys.stdout, index=False, lineterminator="\n"
    )


def _flat(value: Any) -> Any:
    return json.dumps(value) if isinstance(value, list | tuple) else value


def safe(text: str, style: str = "") -> Text:
    """Text that somebody else wrote: never markup, no control characters."""
    return Text(visible(text), style=style)


def status_text(status: str) -> Text:
    """A status in its colour; the word itself says it too."""
    return Text(status, style=STATUS_STYLES.get(status, ""))


def print_heading(console: Console, title: str, *, simulated: bool) -> None:
    """A campaign's title, marked when what follows is simulated."""
    mark = "  SIMULATED: made-up models on a made-up accelerator" if simulated else ""
    console.print(safe(title, "bold").append(mark, "yellow"))


def print_not_measured(console: Console, lines: list[str]) -> None:
    """Exercises that could not be asked on the rig: no table is without the word."""
    for line in lines:
        console.print(safe(line, "yellow"), soft_wrap=True)


def make_table(*columns: str, title: str | None = None) -> Table:
    """A table in our look; a column whose name starts with ``>`` is aligned right."""
    table = Table(
        box=_LINES, title=title, title_justify="left", title_style="bold", header_style="bold", pad_edge=False
    )
    for number, column in enumerate(columns):
        right = column.startswith(">")
        table.add_column(
            column.removeprefix(">"), justify="right" if right else "left", overflow="fold", no_wrap=number == 0
        )
    return table


def print_note(console: Console, text: str) -> None:
    """What explains a table; its own line breaks hold where there is room for them."""
    console.print(text if console.width >= _ROOM_FOR_NOTES else " ".join(text.split("\n")), style="dim")


def print_table(console: Console, table: Table) -> None:
    """Print a table; one that is too wide comes in parts, each led by the first column, so that nothing folds badly."""
    columns = list(range(len(table.columns)))
    while columns:
        taken = _fitting(console, table, columns)
        console.print(_part_of(table, taken))
        columns = columns[len(taken) :] if len(taken) == len(columns) else [columns[0], *columns[len(taken) :]]


def _fitting(console: Console, table: Table, columns: list[int]) -> list[int]:
    """As many of the columns as the console is wide, two at the least."""
    for count in range(len(columns), 2, -1):
        part = _part_of(table, columns[:count])
        if Measurement.get(console, console.options.update(max_width=_UNBOUND), part).maximum <= console.width:
            return columns[:count]
        last = part.columns[-1]
        # words in a last column may fold, down to a width in which they can be read
        if last.justify == "left" and not last.no_wrap:
            last.max_width = _LEAST_WORDS
            if Measurement.get(console, console.options.update(max_width=_UNBOUND), part).maximum <= console.width:
                return columns[:count]
    return columns[:2]


def _part_of(table: Table, columns: list[int]) -> Table:
    """A table of some of a table's columns."""
    part = Table(
        box=table.box, title=table.title, title_justify=table.title_justify, title_style=table.title_style,
        header_style=table.header_style, pad_edge=table.pad_edge,
    )  # fmt: skip
    chosen_columns = [table.columns[index] for index in columns]
    for column in chosen_columns:
        part.add_column(
            column.header, justify=column.justify, overflow=column.overflow, no_wrap=column.no_wrap, style=column.style
        )
    for row in zip(*(column.cells for column in chosen_columns), strict=True):
        part.add_row(*row)
    return part


def candidate_name(name: str, *, reference: bool, baseline: bool) -> Text:
    """A candidate as tables name it: ``*`` marks the reference level, a baseline is marked in words."""
    return safe(name).append("*" if reference else " (baseline)" if baseline else "")


class Once:
    """A name where it first stands, nothing where it stands again in the next row."""

    def __init__(self) -> None:
        self._last = ""

    def __call__(self, name: str) -> Text:
        """What the row's first cell says."""
        same, self._last = name == self._last, name
        return Text() if same else safe(name)


def estimate_json(found: Estimate | float | str | None) -> Any:
    """An estimate as the JSON contract writes it."""
    if isinstance(found, Estimate):
        return {"value": found.value, "low": found.low, "high": found.high, "n": found.n}
    return found
