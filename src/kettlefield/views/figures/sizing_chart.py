"""Memory against context for each level, with the budget line."""

from collections.abc import Sequence
from pathlib import Path

import numpy as np

from kettlefield.core.sizing.requirements import memory_need
from kettlefield.core.units import format_bytes
from kettlefield.views.style import COLOURS, INK, MARKERS, add_legend, new_chart, save_chart
from kettlefield.weights.facts import ModelFacts

CURVE_POINTS = 60
GIB = 2**30


def draw_memory(
    models: Sequence[ModelFacts], path: Path, *, budget_bytes: int | None, kv_bits: int = 16, parallel: int = 1
) -> None:
    """Draw predicted memory over context length, one line a file.

    Parameters
    ----------
    models : sequence of ModelFacts
        At least one whose cache is known.
    path : Path
        Where to; the ending says the format.
    budget_bytes : int, optional
        Drawn as a line.
    kv_bits, parallel : int
        Under which the need is taken.

    Raises
    ------
    ValueError
        No model's cache is known, or the ending is none that can be written.
    """
    known = [facts for facts in models if facts.kv_heads and facts.context_tokens]
    if not known:
        raise ValueError("no file says enough of its cache to draw it")
    streams = "one stream" if parallel == 1 else f"{parallel} streams"
    figure, axes = new_chart(f"Memory required at each context: {kv_bits}-bit KV cache, {streams}")
    for number, facts in enumerate(known):
        contexts = np.unique(np.linspace(1, facts.context_tokens or 1, CURVE_POINTS).astype(int))
        shape = facts.shape()
        needs = [memory_need(shape, int(c), kv_bits=kv_bits, parallel=parallel).total_bytes / GIB for c in contexts]
        colour, marker = COLOURS[number % len(COLOURS)], MARKERS[number % len(MARKERS)]
        label = f"{facts.model} {facts.level}"
        axes.plot(contexts, needs, color=colour, marker=marker, markevery=CURVE_POINTS // 6, markersize=4, label=label)
    if budget_bytes is not None:
        axes.axhline(budget_bytes / GIB, color=INK, linestyle="--", linewidth=1.2)
        axes.annotate(
            f"budget {format_bytes(budget_bytes)}",
            (0, budget_bytes / GIB),
            xytext=(4, 4),
            textcoords="offset points",
            fontsize=9,
        )
    axes.set_xlabel("context (tokens)")
    axes.set_ylabel("weights + KV cache + overhead (GiB)")
    axes.set_ylim(bottom=0)
    axes.xaxis.set_major_formatter(lambda value, _: f"{value:,.0f}")
    add_legend(axes, loc="upper left", bbox_to_anchor=(1.0, 1.0))
    save_chart(figure, path)
