"""The report as one page that holds all it needs: no scripts, no fonts or pictures from elsewhere."""

from functools import cache

from jinja2 import Environment, PackageLoader, StrictUndefined
from markupsafe import Markup

from kettlefield.report.parts import Cell, Section, head_text
from kettlefield.report.style import Chart, page_svg

_STATUSES = frozenset({"met", "not met", "undecided", "approved", "rejected"})


def render_page(title: str, headline: str, sections: tuple[Section, ...], *, simulated: bool) -> str:
    """HTML of the report; whatever comes from a model, a server or a plan is escaped.

    Parameters
    ----------
    title : str
        Of the campaign.
    headline : str
        The verdict in one sentence.
    sections : tuple of Section
        In order.
    simulated : bool
        Whether made-up models were measured.
    """
    template = _environment().get_template("page.html.j2")
    return template.render(title=title, headline=headline, sections=sections, simulated=simulated)


@cache
def _environment() -> Environment:
    # autoescape is on for everything, not by file name
    made = Environment(
        loader=PackageLoader("kettlefield.report"),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    made.filters["svg"] = _svg
    made.filters["cell_text"] = lambda cell: cell.text if isinstance(cell, Cell) else cell
    made.filters["cell_class"] = _cell_class
    made.filters["head_text"] = lambda head: head_text(head).replace("@", "@\N{ZERO WIDTH SPACE}")  # may fold there
    made.filters["head_class"] = lambda head: {">": "number", "=": "line"}.get(head[:1], "")
    return made


def _svg(chart: Chart) -> Markup:
    """Our own drawing; Matplotlib escapes the words in it."""
    return Markup(page_svg(chart))  # noqa: S704 - no text of others reaches it unescaped


def _cell_class(cell: Cell | str) -> str:
    known = isinstance(cell, Cell) and cell.status in _STATUSES
    return f"status {cell.status.replace(' ', '-')}" if known and isinstance(cell, Cell) else ""
