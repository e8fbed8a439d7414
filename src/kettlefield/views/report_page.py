"""The report in a folder: one page that holds all it needs, or Markdown, and its figures beside it."""

import csv
import re
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from functools import cache
from pathlib import Path

from jinja2 import Environment
from markupsafe import Markup, escape

from kettlefield.core.plaintext import visible
from kettlefield.decision.verdict import Decision
from kettlefield.record.place import Place
from kettlefield.record.store import Record
from kettlefield.views.material import Material, read_material
from kettlefield.views.parts import Grid, Section, flat
from kettlefield.views.records_view import comparison_sentence, record_views
from kettlefield.views.sections.correctness_section import correctness_section, further_trials
from kettlefield.views.sections.decision_sections import criteria_section, evidence_section
from kettlefield.views.sections.measured_sections import levels_section, marks_section, memory_section, speed_section
from kettlefield.views.sections.verdict_section import headline, verdict_section
from kettlefield.views.style import Chart, draw, save_chart, settle, svg_file, svg_in_page
from kettlefield.views.table import STATUSES, Align, Column, Table, Words
from kettlefield.views.templating import make_environment
from kettlefield.views.terminal import csv_cell

MOST_OF_A_TITLE = 80  # characters, in an anchor or a file's name
_NOT_IN_ANCHORS = re.compile(r"[^a-z0-9]+")
_FOLDS = re.compile(r"([@_])")  # a long heading may fold behind these


def render_page(
    title: str, headline: str, sections: tuple[Section, ...], svgs: Mapping[str, str], *, simulated: bool
) -> str:
    """HTML of the report; whatever comes from a model, a server or a plan is escaped.

    Parameters
    ----------
    title : str
        Of the campaign.
    headline : str
        The verdict in one sentence.
    sections : tuple of Section
        In order.
    svgs : mapping
        Chart's name -> its SVG.
    simulated : bool
        Whether made-up models were measured.
    """
    # our own drawings; Matplotlib escapes the words in them
    drawn = {name: Markup(svg_in_page(text)) for name, text in svgs.items()}  # noqa: S704
    template = _environment().get_template("page.html.j2")
    return template.render(title=title, headline=headline, sections=sections, svgs=drawn, simulated=simulated)


@cache
def _environment() -> Environment:
    made = make_environment()
    made.filters["cell_class"] = _cell_class
    made.filters["anchor"] = anchor
    made.filters["head_text"] = lambda column: Markup(  # noqa: S704 - escaped just before
        _FOLDS.sub(r"\1<wbr>", str(escape(visible(column.head))))
    )
    made.filters["head_class"] = _head_class
    return made


def anchor(title: str) -> str:
    """The id of a table of this title."""
    return "table-" + _NOT_IN_ANCHORS.sub("-", title.lower()).strip("-")[:MOST_OF_A_TITLE]


def _head_class(column: Column) -> str:
    return {Align.RIGHT: "number", Align.LINE: "line"}.get(column.align, "")


def _cell_class(text: str) -> str:
    return f"status {text.replace(' ', '-')}" if text in STATUSES else ""


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
        for part in flat(section.parts):
            if part.kind == "words":
                lines += _words(part)
            elif part.kind == "table":
                lines += _table(part)
            elif part.kind == "chart":
                chart = part.chart
                lines += [
                    f"![{_plain(chart.alt)}]({folder}/{chart.name}.svg)",
                    "",
                    *([_plain(chart.finding), ""] if chart.finding else []),
                    f"*{_plain(chart.caption)}*",
                    "",
                ]
            elif part.kind == "grid":
                lines += _grid(part)
    return "\n".join(lines).rstrip() + "\n"


def _words(part: Words) -> list[str]:
    text = f"**{_plain(part.text)}**" if part.tone in {"strong", "warning"} and part.text else _plain(part.text)
    return [*([text, ""] if text else []), *(f"- {_plain(item)}" for item in part.items), *([""] if part.items else [])]


def _table(part: Table) -> list[str]:
    rule = ["---:" if column.align is Align.RIGHT else "---" for column in part.columns]
    heads = _row([column.head for column in part.columns])
    lines = [f"**{_plain(part.title)}**", "", heads, f"| {' | '.join(rule)} |"]
    lines += [*map(_row, map(list, part.texts())), ""]
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


FIGURES, TABLES = "figures", "tables"
# in the order of a reader's questions
SECTIONS: tuple[Callable[[Material], Section | None], ...] = (
    *(verdict_section, criteria_section, levels_section, correctness_section),
    *(marks_section, speed_section, memory_section, evidence_section),
)


def build_sections(material: Material) -> tuple[Section, ...]:
    """Every section, in order."""
    made: list[Section | None] = [section(material) for section in SECTIONS]
    return tuple(section for section in made if section is not None)


def charts_of(sections: tuple[Section, ...]) -> list[Chart]:
    """Every chart of the sections, in order."""
    charts = []
    for section in sections:
        for part in flat(section.parts):
            if part.kind == "chart" or (part.kind == "grid" and part.chart is not None):
                charts.append(part.chart)
    return [chart for chart in charts if chart is not None]


def write_comparison(places: Sequence[Place], folder: Path, *, as_markdown: bool) -> tuple[Path, ...]:
    """Write what changed between an old record and newer ones, a section each; the path written.

    Raises
    ------
    InputError
        Two records share no candidate.
    OSError
        The folder cannot be written to.
    """
    views = record_views(places)
    sections = tuple(
        Section(anchor="verdict" if number == 0 else f"record-{number + 1}", title=view.title, parts=view.parts)
        for number, view in enumerate(views)
    )
    title, sentence = f"What changed since {places[0]}", " ".join(map(comparison_sentence, views))
    folder.mkdir(parents=True, exist_ok=True)
    if as_markdown:
        path, text = folder / "report.md", render_markdown(title, sentence, sections, folder=FIGURES)
    else:
        simulated = any(view.simulated for view in views)
        path, text = folder / "report.html", render_page(title, sentence, sections, {}, simulated=simulated)
    path.write_text(text, encoding="utf-8", errors="backslashreplace")
    _write_tables(sections, folder / TABLES)
    return (path,)


def _write_tables(sections: Sequence[Section], folder: Path) -> None:
    """Every table as CSV, for whoever sorts or reckons; named as its anchor on the page, cells as they are shown."""
    folder.mkdir(parents=True, exist_ok=True)
    names = Counter[str]()
    for part in (part for section in sections for part in flat(section.parts) if part.kind == "table"):
        name = anchor(part.title).removeprefix("table-") or "table"
        names[name] += 1
        path = folder / (f"{name}-{names[name]}.csv" if names[name] > 1 else f"{name}.csv")
        with path.open("w", encoding="utf-8", errors="backslashreplace", newline="") as file:
            writer = csv.writer(file, lineterminator="\n")
            writer.writerow([csv_cell(column.head) for column in part.columns])
            writer.writerows([csv_cell(cell) for cell in row] for row in part.texts())


def write_report(
    record: Record,
    decision: Decision,
    folder: Path,
    *,
    as_markdown: bool,
    with_png: bool = False,
    all_trials: bool = False,
) -> tuple[Path, ...]:
    """Write the report; the paths written, the report itself first.

    Parameters
    ----------
    record : Record
        An open record.
    decision : Decision
        What it decides.
    folder : Path
        Made where it is missing.
    as_markdown : bool
        ``report.md`` in place of ``report.html``.
    with_png : bool
        Write every figure as PNG too.
    all_trials : bool
        Write pages beside it of the trials that it has no room for.

    Raises
    ------
    InputError
        No campaign was begun in the record.
    OSError
        The folder cannot be written to.
    """
    material = read_material(record, decision)
    sections = build_sections(material)
    (folder / FIGURES).mkdir(parents=True, exist_ok=True)
    sentence = headline(material)
    charts = charts_of(sections)
    svgs = dict(zip((chart.name for chart in charts), draw(charts), strict=True))
    if as_markdown:
        path = folder / "report.md"
        text = render_markdown(decision.title, sentence, sections, folder=FIGURES)
    else:
        path = folder / "report.html"
        text = render_page(decision.title, sentence, sections, svgs, simulated=decision.simulated)
    path.write_text(text, encoding="utf-8", errors="backslashreplace")
    _write_tables(sections, folder / TABLES)
    written = [path]
    for section in further_trials(material) if all_trials and not as_markdown else ():
        written.append(folder / f"{section.anchor}.html")
        text = render_page(decision.title, section.title, (section,), {}, simulated=decision.simulated)
        written[-1].write_text(text, encoding="utf-8", errors="backslashreplace")
    for chart in charts:
        written.append(folder / FIGURES / f"{chart.name}.svg")
        written[-1].write_text(svg_file(svgs[chart.name]), encoding="utf-8")
        if with_png:
            written.append(written[-1].with_suffix(".png"))
            settle(chart)
            save_chart(chart.figure, written[-1])
    return tuple(written)
