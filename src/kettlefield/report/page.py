"""The report as one page that holds all it needs: no scripts, no fonts or pictures from elsewhere."""

import re
from collections.abc import Mapping
from functools import cache

from jinja2 import Environment
from markupsafe import Markup, escape

from kettlefield.core.plaintext import visible
from kettlefield.report.parts import Cell, Section, head_text
from kettlefield.report.style import svg_in_page
from kettlefield.report.templating import make_environment

_FOLDS = re.compile(r"([@_])")  # a long heading may fold behind these
_STATUSES = frozenset({"met", "not met", "undecided", "approved", "rejected"})


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
    made.filters["cell_text"] = lambda cell: cell.text if isinstance(cell, Cell) else cell
    made.filters["cell_class"] = _cell_class
    made.filters["head_text"] = lambda head: Markup(  # noqa: S704 - escaped just before
        _FOLDS.sub(r"\1<wbr>", str(escape(visible(head_text(head)))))
    )
    made.filters["head_class"] = lambda head: {">": "number", "=": "line"}.get(head[:1], "")
    return made


def _cell_class(cell: Cell | str) -> str:
    known = isinstance(cell, Cell) and cell.status in _STATUSES
    return f"status {cell.status.replace(' ', '-')}" if known and isinstance(cell, Cell) else ""
