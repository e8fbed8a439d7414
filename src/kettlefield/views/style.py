"""One look for every chart: sizes, colours that colour-blind readers tell apart, markers as well as colours."""

import io
import multiprocessing
import os
import re
from collections.abc import Iterable, Sequence
from multiprocessing.connection import Connection
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import msgspec
import pandas as pd

from kettlefield.core.units import format_bytes

WIDTH_IN, HEIGHT_IN, DPI = 9.0, 5.4, 140
# the palette of Okabe and Ito (2008), distinguished with every kind of colour blindness; grey in black's place, which
# would not be seen on a dark page
COLOURS = ("#0072B2", "#D55E00", "#009E73", "#CC79A7", "#E69F00", "#56B4E9", "#7f7f7f", "#8a8a00")
MARKERS = ("o", "s", "^", "D", "v", "P", "X", "*")
LIGHTEST = 0.5  # of the way to white, of a model's last level
NAMES_APART = 0.045  # of an axis, between two names
INK, FAINT = "#1d2733", "#d5dbe1"  # of words and axes, and of the grid; on the page they follow its own colours
MOST_DRAWN_AT_ONCE = 4  # each is a process with all of the report's data
_SVG: Any = {
    "svg.hashsalt": "kettlefield",
    "svg.fonttype": "none",
    "font.family": ["DejaVu Sans", "Verdana", "sans-serif"],
}


class Chart(msgspec.Struct, frozen=True, kw_only=True):
    """A drawn figure with the words that stand for it."""

    name: str  # stem of its files
    title: str  # what to see
    alt: str  # what it shows, for who cannot see it
    caption: str  # units, sample sizes, how to read it
    finding: str = ""  # what it shows, in numbers; empty where nothing is to be said
    figure: Any


def new_figure(
    *, height_in: float = HEIGHT_IN, width_in: float = WIDTH_IN, rows: int = 1, columns: int = 1, **options: Any
) -> tuple[Any, Any]:
    """A figure and its axes in our look, without a display; several axes come as an array."""
    from matplotlib.figure import Figure  # noqa: PLC0415 - half a second, and only when something is drawn

    figure = Figure(figsize=(width_in, height_in), dpi=DPI, layout="constrained")
    figure.patch.set_alpha(0)
    axes = figure.subplots(rows, columns, **options)
    for each in figure.axes:
        each.patch.set_alpha(0)
        each.spines[["top", "right"]].set_visible(False)
        each.spines[["left", "bottom"]].set_color(INK)
        each.tick_params(colors=INK, labelsize=9, which="both")
        each.xaxis.label.set_color(INK)
        each.yaxis.label.set_color(INK)
        each.grid(axis="y", color=FAINT, linewidth=0.6)
        each.set_axisbelow(True)
    return figure, axes


def new_chart(title: str, *, height_in: float = HEIGHT_IN, width_in: float = WIDTH_IN) -> tuple[Any, Any]:
    """A figure with one pair of axes under a title."""
    figure, axes = new_figure(height_in=height_in, width_in=width_in)
    axes.set_title(title, loc="left", fontsize=11, fontweight="bold", color=INK)
    return figure, axes


def add_legend(axes: Any, **options: Any) -> None:
    """A legend without a frame, its words in our ink."""
    axes.legend(**{"fontsize": 8, "frameon": False, "labelcolor": INK, **options})


def model_of(candidate: str) -> str:
    """The model that a candidate is a level of, by its name."""
    return candidate.partition("@")[0]


def looks_of(candidates: Iterable[str]) -> dict[str, dict[str, Any]]:
    """Colour and marker of each candidate, the same in every chart: a colour a model, a shade and a marker a level.

    Parameters
    ----------
    candidates : iterable of str
        All of a chart's, in the record's order; levels become lighter in it.
    """
    levels: dict[str, list[str]] = {}
    for name in dict.fromkeys(map(str, candidates)):
        levels.setdefault(model_of(name), []).append(name)
    looks = {}
    for number, names in enumerate(levels.values()):
        for place, name in enumerate(names):
            share = LIGHTEST * place / max(len(names) - 1, 1)
            looks[name] = {
                "color": _lighter(COLOURS[number % len(COLOURS)], share),
                "marker": MARKERS[place % len(MARKERS)],
                "markersize": 5,
            }
    return looks


def _lighter(colour: str, share: float) -> str:
    parts = (int(colour[at : at + 2], 16) for at in (1, 3, 5))
    return "#" + "".join(f"{round(part + (255 - part) * share):02x}" for part in parts)


def label_ends(axes: Any, ends: Sequence[tuple[str, float, float]]) -> None:
    """Name lines where they end, in place of a legend: text, x and y of each; names are moved apart where they meet."""
    low, high = axes.get_ylim()
    gap, last = NAMES_APART * (high - low), float("-inf")
    for text, x, y in sorted(ends, key=lambda end: end[2]):
        place = max(y, last + gap)
        last = place
        axes.annotate(text, (x, place), xytext=(7, 0), textcoords="offset points", va="center", fontsize=8, color=INK)


def note(axes: Any, text: str, at: tuple[float, float], **options: Any) -> None:
    """A few words beside a point, a little to its right and above unless given otherwise."""
    place = {"xytext": (4, 4), "textcoords": "offset points", "fontsize": 9, "color": INK}
    axes.annotate(text, at, **{**place, **options})


def head(axes: Any, title: str) -> None:
    """A title over one of several axes."""
    axes.set_title(title, loc="left", fontsize=10, fontweight="bold", color=INK)


def rows_of(frame: pd.DataFrame) -> list[SimpleNamespace]:
    """A frame's rows, their columns as attributes."""
    return [SimpleNamespace(**{str(name): value for name, value in row.items()}) for row in frame.to_dict("records")]


_ACROSS, _UP = {-1: "right", 0: "center", 1: "left"}, {-1: "top", 0: "center", 1: "bottom"}
# where a name can stand by its point, in points of type: across, up, and which side of the name is there
_PLACES = [
    (across * reach, up * reach, _ACROSS[across], _UP[up])
    for reach in (6, 12, 18, 26)
    for across, up in ((1, 1), (1, -1), (-1, 1), (-1, -1), (0, 1), (0, -1), (1, 0), (-1, 0))
]


def name_points(axes: Any, names: Sequence[tuple[str, float, float, dict[str, Any]]]) -> None:
    """Name points, each where its name covers the least of other names, points and bars; the first choose first.

    Parameters
    ----------
    axes : matplotlib.axes.Axes
        With all that is drawn there, its limits set.
    names : sequence of (str, float, float, dict)
        Text, x and y of each point, and the options of its text.
    """
    from matplotlib.backends.backend_agg import FigureCanvasAgg  # noqa: PLC0415 - as in new_figure
    from matplotlib.transforms import Bbox  # noqa: PLC0415

    renderer = FigureCanvasAgg(axes.figure).get_renderer()  # type: ignore[no-untyped-call]
    axes.figure.draw_without_rendering()  # so that the layout is settled, and extents are true
    taken = [each.get_window_extent(renderer).padded(1.5) for each in [*axes.collections, *axes.lines, *axes.texts]]
    for _, x, y, _ in names:
        left, bottom = axes.transData.transform((x, y))
        taken.append(Bbox.from_bounds(left - 6, bottom - 6, 12, 12))
    room = axes.get_window_extent(renderer)
    for text, x, y, options in names:
        tried: list[tuple[float, int, Any, Any]] = []
        for across, up, side, foot in _PLACES:
            said = axes.annotate(
                text, (x, y), xytext=(across, up), textcoords="offset points", ha=side, va=foot, color=INK, **options
            )
            box = said.get_window_extent(renderer)
            outside = box.width * box.height - _shared(box, room)
            tried.append((sum(_shared(box, other) for other in taken) + 3 * outside, len(tried), said, box))
            said.remove()
            if not tried[-1][0]:
                break
        _, _, best, box = min(tried, key=lambda one: one[:2])
        axes.add_artist(best)
        taken.append(box)


def _shared(one: Any, other: Any) -> float:
    """The area that two boxes share."""
    width = min(one.x1, other.x1) - max(one.x0, other.x0)
    height = min(one.y1, other.y1) - max(one.y0, other.y0)
    return float(max(width, 0.0) * max(height, 0.0))


def budget_in_sight(budget_bytes: float | None, most_bytes: float) -> tuple[float | None, str]:
    """The budget to be drawn, and words in its place where it lies so far out that it would dwarf all else."""
    if budget_bytes is None or budget_bytes <= 4 * most_bytes:
        return budget_bytes, ""
    return None, f" The memory budget, {format_bytes(budget_bytes)}, lies outside."


def sentences(parts: Iterable[str]) -> str:
    """Several findings as one text, for who cannot see the chart."""
    return "; ".join(parts) + "."


def save_chart(figure: Any, path: Path) -> None:
    """Write a chart on white; the file's ending says the format (PNG, SVG, PDF).

    Raises
    ------
    ValueError
        The ending is none that can be written.
    OSError
        The place cannot be written to.
    """
    from matplotlib import rc_context  # noqa: PLC0415

    figure.patch.set_alpha(1)  # else white stays as clear as the page's figures are
    with rc_context(_SVG):
        figure.savefig(path, metadata={"Date": None} if path.suffix == ".svg" else None, facecolor="white")


def settle(chart: Chart) -> None:
    """Place everything in a chart once: with a layout engine each format would be drawn twice, once for the places."""
    from matplotlib import rc_context  # noqa: PLC0415

    with rc_context(_SVG):
        chart.figure.get_layout_engine().execute(chart.figure)
    chart.figure.set_layout_engine(None)


def svg_text(chart: Chart) -> str:
    """A chart as SVG without a background: no XML head, words as text.

    Ids are led by the chart's name, so that several charts stand on one page.
    """
    from matplotlib import rc_context  # noqa: PLC0415

    out = io.StringIO()
    with rc_context(_SVG):
        chart.figure.savefig(out, format="svg", metadata={"Date": None, "Creator": None, "Format": None, "Type": None})
    text = out.getvalue()
    text = text[text.index("<svg") :]
    text = re.sub(r"<metadata>.*?</metadata>", "", text, flags=re.DOTALL)
    # a style element would reach beyond its chart; what it sets stands on the chart itself instead
    text = re.sub(r"<defs>\s*<style.*?</style>\s*</defs>", "", text, flags=re.DOTALL)
    text = text.replace("<svg ", '<svg stroke-linejoin="round" stroke-linecap="butt" ', 1)
    text = re.sub(r'\bid="', f'id="{chart.name}-', text)
    return re.sub(r'(xlink:href="|url\()#', rf"\g<1>#{chart.name}-", text)


def draw(charts: Sequence[Chart]) -> list[str]:
    """Every chart as SVG, several at once: each is drawn in a copy of this process, which has the figures already."""
    workers = min(len(charts), os.cpu_count() or 1, MOST_DRAWN_AT_ONCE)
    if workers < 2 or "fork" not in multiprocessing.get_all_start_methods():
        return [_drawn(chart) for chart in charts]
    context = multiprocessing.get_context("fork")
    pipes = []
    for first in range(workers):
        mine, theirs = context.Pipe(duplex=False)
        # nothing is sent to a process that is forked: it begins with what we have
        worker = context.Process(target=_draw_share, args=(charts[first::workers], theirs), daemon=True)
        worker.start()
        theirs.close()
        pipes.append((worker, mine))
    texts = [""] * len(charts)
    for first, (worker, pipe) in enumerate(pipes):
        try:
            texts[first::workers] = pipe.recv()
        except EOFError:  # the copy was killed, for want of memory perhaps
            texts[first::workers] = [_drawn(chart) for chart in charts[first::workers]]
        worker.join()
    return texts


def _draw_share(charts: Sequence[Chart], pipe: Connection) -> None:
    pipe.send([_drawn(chart) for chart in charts])


def _drawn(chart: Chart) -> str:
    settle(chart)
    return svg_text(chart)


def svg_file(text: str) -> str:
    """A chart's SVG as a file of its own, on white."""
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + _led_by(text, '<rect width="100%" height="100%" fill="white"/>')


def svg_in_page(text: str) -> str:
    """A chart's SVG for a page: ink and grid in the page's own colours; the figure around it tells what it says."""
    text = text.replace(INK, "currentColor").replace(FAINT, "var(--faint)")
    return text.replace("<svg ", '<svg aria-hidden="true" focusable="false" ', 1)


def _led_by(text: str, element: str) -> str:
    end = text.index(">") + 1
    return text[:end] + element + text[end:]
