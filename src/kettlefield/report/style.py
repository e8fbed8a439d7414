"""One look for every chart: sizes, colours that colour-blind readers tell apart, markers as well as colours."""

from pathlib import Path
from typing import Any

WIDTH_IN, HEIGHT_IN, DPI = 9.0, 5.4, 140
# the palette of Okabe and Ito (2008), told apart with every kind of colour blindness
COLOURS = ("#0072B2", "#D55E00", "#009E73", "#CC79A7", "#E69F00", "#56B4E9", "#000000", "#8a8a00")
MARKERS = ("o", "s", "^", "D", "v", "P", "X", "*")


def new_chart(title: str) -> tuple[Any, Any]:
    """A figure and its axes in our look, without a display."""
    from matplotlib.figure import Figure  # noqa: PLC0415 - half a second, and only when something is drawn

    figure = Figure(figsize=(WIDTH_IN, HEIGHT_IN), dpi=DPI, layout="constrained")
    axes = figure.subplots()
    axes.set_title(title, loc="left", fontsize=11, fontweight="bold")
    axes.spines[["top", "right"]].set_visible(False)
    axes.grid(axis="y", color="#dddddd", linewidth=0.6)
    axes.set_axisbelow(True)
    return figure, axes


def save_chart(figure: Any, path: Path) -> None:
    """Write a chart; the file's ending says the format (PNG, SVG, PDF).

    Raises
    ------
    ValueError
        The ending is none that can be written.
    OSError
        The place cannot be written to.
    """
    figure.savefig(path, metadata=None)
