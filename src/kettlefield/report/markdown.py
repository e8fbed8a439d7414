"""The report as Markdown, its figures beside it: for a wiki, a merge request, a ticket."""

import re

from kettlefield.core.plaintext import visible
from kettlefield.report.parts import Cell, Grid, Section, Table, Words, head_text

# what Markdown or the HTML inside it would take for more than text
_SPECIAL = re.compile(r"([\\`*_{}\[\]()#+!|<>&~-])")


def render_markdown(title: str, headline: str, sections: tuple[Section, ...], *, folder: str) -> str:
    """Markdown text; trials are left to the record and to the page.

    Parameters
    ----------
    title, headline : str
        As the page has them.
    sections : tuple of Section
        In order.
    folder : str
        Where the figures lie, relative to the file.
    """
    lines = [f"# {_plain(title)}", "", f"**{_plain(headline)}**", ""]
    for section in sections:
        lines += [f"## {_plain(section.title)}", ""]
        for part in section.parts:
            if part.kind == "words":
                lines += _words(part)
            elif part.kind == "table":
                lines += _table(part)
            elif part.kind == "chart":
                chart = part.chart
                lines += [f"![{_plain(chart.alt)}]({folder}/{chart.name}.svg)", "", f"*{_plain(chart.caption)}*", ""]
            elif part.kind == "grid":
                lines += _grid(part)
    return "\n".join(lines).rstrip() + "\n"


def _words(part: Words) -> list[str]:
    text = f"**{_plain(part.text)}**" if part.tone in {"strong", "warning"} and part.text else _plain(part.text)
    return [*([text, ""] if text else []), *(f"- {_plain(item)}" for item in part.items), *([""] if part.items else [])]


def _table(part: Table) -> list[str]:
    heads = [head_text(head) for head in part.heads]
    rule = ["---:" if head.startswith(">") else "---" for head in part.heads]
    rows = [[cell.text if isinstance(cell, Cell) else cell for cell in row] for row in part.rows]
    lines = [f"**{_plain(part.title)}**", "", _row(heads), f"| {' | '.join(rule)} |", *map(_row, rows), ""]
    return [*lines, *([_plain(part.note), ""] if part.note else [])]


def _grid(part: Grid) -> list[str]:
    rows = [[name, *(square.letter for square in squares)] for name, squares in part.rows]
    key = ", ".join(f"{letter} {outcome}" for letter, outcome in part.key)
    rule = ["---"] * (len(part.candidates) + 1)
    return [_row(["exercise", *part.candidates]), f"| {' | '.join(rule)} |", *map(_row, rows), "", _plain(key), ""]


def _row(cells: list[str]) -> str:
    return "| " + " | ".join(_plain(cell) for cell in cells) + " |"


def _plain(text: str) -> str:
    """Text that is nothing but text; line breaks become spaces."""
    return _SPECIAL.sub(r"\\\1", " ".join(visible(text).split()))
