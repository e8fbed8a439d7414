"""Views on a terminal, as JSON and as CSV: tables in parts where they are too wide, text of others made safe."""

import csv
import json
import os
import re
import shutil
import sys
from collections.abc import Mapping, Sequence
from typing import Any, Literal

from rich import box
from rich.cells import cell_len
from rich.console import Console
from rich.measure import Measurement
from rich.table import Table as RichTable
from rich.text import Text

from kettlefield.core.plaintext import visible
from kettlefield.views.table import STATUSES, Align, Column, Table, View, Words

PIPE_WIDTH = 180  # off a terminal nothing is cut; wide tables stay whole
_UNBOUND = 10_000  # columns: wider than any table
_LEAST_WORDS = 28  # columns in which words can still be read when they fold
_LINES = box.Box("    \n    \n -- \n    \n    \n    \n    \n    \n")
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
# a figure: before the point, behind it, its interval and its unit
_FIGURE = re.compile(r"(?P<whole>[-+]?[\d,]+)(?P<places>\.\d+)?(?P<interval> \(.*\))?(?P<unit>(?: ?[^\d\s(][^(]*)?)")
_TONES = {"plain": "", "strong": "bold", "warning": "yellow", "small": "dim"}


def make_console(*, stderr: bool = False) -> Console:
    """A console on stdout or stderr: no colour off a terminal or with NO_COLOR set."""
    stream = sys.stderr if stderr else sys.stdout
    plain = bool(os.environ.get("NO_COLOR")) or not stream.isatty()
    width = shutil.get_terminal_size().columns if stream.isatty() or "COLUMNS" in os.environ else PIPE_WIDTH
    colours: Literal["auto"] | None = None if plain else "auto"  # None: no codes at all, bold ones included
    return Console(
        file=stream, color_system=colours, width=width, highlight=False, markup=False, soft_wrap=False, emoji=False
    )


def show(view: View, *, as_json: bool) -> None:
    """Print a view on stdout."""
    if as_json:
        print_json(view.document)
        return
    console = make_console()
    print_heading(console, view.title, simulated=view.simulated)
    print_parts(console, view.parts)


def print_parts(console: Console, parts: Sequence[Table | Words]) -> None:
    """Print tables and words in order."""
    after_table = False
    for part in parts:
        if after_table and not isinstance(part, Table):
            console.print()
        after_table = isinstance(part, Table)
        if isinstance(part, Table):
            print_table(console, part)
            if part.note:
                console.print(safe(part.note, "dim"))
            continue
        if part.text:
            console.print(safe(part.text, _TONES[part.tone]), soft_wrap=not part.folds)
        for item in part.items:
            console.print(safe(f"  {item}", _TONES[part.tone]), soft_wrap=not part.folds)


def print_json(document: Any) -> None:
    """One JSON document on stdout and nothing else."""
    json.dump(document, sys.stdout, indent=2, ensure_ascii=True, allow_nan=False)
    sys.stdout.write("\n")


def print_csv(rows: Sequence[Mapping[str, Any]]) -> None:
    """Rows as CSV on stdout (RFC 4180, lines ended by a line feed): what is nested becomes ``outer.inner``."""
    flat = [dict(_flat(row)) for row in rows]
    writer = csv.DictWriter(
        sys.stdout, list(dict.fromkeys(name for row in flat for name in row)), restval="", lineterminator="\n"
    )
    writer.writeheader()
    writer.writerows({name: csv_cell(value) for name, value in row.items()} for row in flat)


def csv_cell(value: Any) -> Any:
    """A cell that no spreadsheet runs: a text that it would take for a formula is led by an apostrophe."""
    return f"'{value}" if isinstance(value, str) and value[:1] in {"=", "+", "-", "@"} else value


def _flat(row: Mapping[str, Any], lead: str = "") -> list[tuple[str, Any]]:
    pairs: list[tuple[str, Any]] = []
    for name, value in row.items():
        if isinstance(value, Mapping):
            pairs += _flat(value, f"{lead}{name}.")
        else:
            pairs.append((f"{lead}{name}", json.dumps(value) if isinstance(value, list | tuple) else value))
    return pairs


def safe(text: str, style: str = "") -> Text:
    """Text that somebody else wrote: never markup, no control characters."""
    return Text(visible(text), style=style)


def status_text(status: str) -> Text:
    """A status in its colour; the word itself says it too."""
    return Text(status, style=STATUS_STYLES.get(status, ""))


def print_heading(console: Console, title: str, *, simulated: bool) -> None:
    """A campaign's title, marked when what follows is simulated."""
    mark = "SIMULATED: made-up models on a made-up accelerator" if simulated else ""
    if title or mark:
        console.print(safe(title, "bold").append("  " if title and mark else "").append(mark, "yellow"))


def print_table(console: Console, table: Table) -> None:
    """Print a table; one that is too wide comes in parts, each led by the first column, so that nothing folds badly."""
    cells, left = _cells(table), list(range(len(table.columns)))
    tight = _width(console, _part_of(table, cells, left)) > console.width  # columns come closer before a table breaks
    lead: list[int] = []
    while left:
        taken = _fitting(console, table, cells, lead, left, tight=tight)
        console.print()
        console.print(safe(table.title, "bold"))
        console.print(_part_of(table, cells, [*lead, *taken], tight=tight))
        lead, left = [0], left[len(taken) :]


def _cells(table: Table) -> list[list[Text]]:
    """Every row's cells; a value that is the row's above is left out where its column says so."""
    rows, above = [], ("",) * len(table.columns)
    for texts in _aligned(table):
        row, fresh = [], False
        for column, text, before in zip(table.columns, texts, above, strict=True):
            fresh = fresh or not column.once or text != before
            hidden = column.once and not fresh
            style = STATUS_STYLES.get(text, "") if text in STATUSES or text in STATUS_STYLES else ""
            row.append(Text() if hidden else _figure_text(column, text, style))
        rows.append(row)
        above = texts
    return rows


def _aligned(table: Table) -> list[tuple[str, ...]]:
    """Every row's texts; in columns of figures the decimal points stand below each other, and so do the intervals."""
    columns = [
        _in_line(texts) if column.align is Align.RIGHT else texts
        for column, texts in zip(table.columns, zip(*table.texts(), strict=True), strict=True)
    ]
    return list(zip(*columns, strict=True))


def _in_line(texts: Sequence[str]) -> Sequence[str]:
    """Figures with as many places behind the point as the longest has, where all are of one unit."""
    parts = [_FIGURE.fullmatch(text) for text in texts]
    if len({part["unit"] for part in parts if part}) > 1:
        return texts
    places = max((len(part["places"] or "") for part in parts if part), default=0)
    lengths = max((len(part["interval"] or "") for part in parts if part), default=0)
    return [_placed(part, places, lengths) if part else text for text, part in zip(texts, parts, strict=True)]


def _placed(part: re.Match[str], places: int, lengths: int) -> str:
    """A figure with room for the places and the interval of others; its unit stays beside it."""
    number = part["whole"] + (part["places"] or "").ljust(places)
    if part["interval"]:
        return number + part["interval"].rjust(lengths) + part["unit"]
    return number + part["unit"] + " " * lengths


def _figure_text(column: Column, text: str, style: str) -> Text:
    """A cell; of a figure the interval is dim, and blanks that put its point in line are kept."""
    shown = safe(text, style)
    if column.align is Align.RIGHT and (start := text.find(" (")) > 0:
        shown.stylize("dim", start)
    return shown


def _fitting(
    console: Console, table: Table, cells: list[list[Text]], lead: list[int], left: list[int], *, tight: bool
) -> list[int]:
    """As many of the columns that are left as the console is wide, behind those that lead; one more at the least."""
    least = 1 if lead else 2
    for number in range(len(left), least, -1):
        part = _part_of(table, cells, [*lead, *left[:number]], tight=tight)
        if _width(console, part) <= console.width:
            return left[:number]
        last = part.columns[-1]
        # words in a last column may fold, down to a width in which they can be read
        if table.columns[left[number - 1]].align is Align.LEFT:
            last.max_width = _LEAST_WORDS
            if _width(console, part) <= console.width:
                return left[:number]
    return left[:least]


def _width(console: Console, part: RichTable) -> int:
    return Measurement.get(console, console.options.update(max_width=_UNBOUND), part).maximum


def _part_of(table: Table, cells: list[list[Text]], columns: list[int], *, tight: bool = False) -> RichTable:
    """Some of a table's columns as rich draws them; in a tight one a unit stands below its column's name."""
    part = RichTable(box=_LINES, header_style="bold", pad_edge=False, show_edge=False, collapse_padding=tight)
    shown: list[list[Text]] = []
    for number, index in enumerate(columns):
        column = table.columns[index]
        right = column.align is Align.RIGHT
        whole = number == 0 or column.align is Align.LINE
        head = column.head.replace(", ", "\n") if tight and column.unit else column.head
        part.add_column(safe(head), justify="right" if right else "left", overflow="fold", no_wrap=whole)
        texts = [row[index] for row in cells]
        width = max(cell_len(line) for line in (*head.split("\n"), *(text.plain for text in texts)))
        shown.append([_padded(text, width) if right else text for text in texts])
    for row in zip(*shown, strict=True):
        part.add_row(*row)
    return part


def _padded(text: Text, width: int) -> Text:
    """Text moved to the right by hand: rich would take away the blanks behind it, which put its point in line."""
    moved = Text(" " * (width - text.cell_len), justify="left")
    return moved.append_text(text)
