"""A report written into a folder: the page, or Markdown, and every figure as SVG and PNG."""

from pathlib import Path

from kettlefield.analysis.verdict import Decision
from kettlefield.record.store import Record
from kettlefield.report.markdown import render_markdown
from kettlefield.report.material import Material, read_material
from kettlefield.report.page import render_page
from kettlefield.report.parts import Section
from kettlefield.report.sections import correctness, criteria, evidence, levels, marks, memory, speed, verdict
from kettlefield.report.style import Chart, save_chart, settle, svg_file, svg_text

FIGURES = "figures"
SECTIONS = (verdict, criteria, levels, correctness, marks, speed, memory, evidence)  # in the order of the questions


def build_sections(material: Material) -> tuple[Section, ...]:
    """Every section, in order."""
    made: list[Section | None] = [module.section(material) for module in SECTIONS]
    return tuple(section for section in made if section is not None)


def charts_of(sections: tuple[Section, ...]) -> list[Chart]:
    """Every chart of the sections, in order."""
    found = []
    for section in sections:
        for part in section.parts:
            if part.kind == "chart" or (part.kind == "grid" and part.chart is not None):
                found.append(part.chart)
    return [chart for chart in found if chart is not None]


def write_report(record: Record, decision: Decision, folder: Path, *, as_markdown: bool) -> tuple[Path, ...]:
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
    headline = verdict.headline(material)
    charts = charts_of(sections)
    for chart in charts:
        settle(chart)
    svgs = {chart.name: svg_text(chart) for chart in charts}
    if as_markdown:
        path = folder / "report.md"
        text = render_markdown(decision.title, headline, sections, folder=FIGURES)
    else:
        path = folder / "report.html"
        text = render_page(decision.title, headline, sections, svgs, simulated=decision.simulated)
    path.write_text(text, encoding="utf-8", errors="backslashreplace")
    written = [path]
    for chart in charts:
        written += [folder / FIGURES / f"{chart.name}.{ending}" for ending in ("svg", "png")]
        written[-2].write_text(svg_file(svgs[chart.name]), encoding="utf-8")
        save_chart(chart.figure, written[-1])
    return tuple(written)
