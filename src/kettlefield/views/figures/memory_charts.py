"""Memory over time with its phases, peak memory measured and predicted, and memory required at each context."""

from collections.abc import Sequence
from pathlib import Path

import numpy as np
import pandas as pd

from kettlefield.core.sizing.requirements import memory_need
from kettlefield.core.units import format_bytes, size_scale
from kettlefield.views.figures import findings
from kettlefield.views.style import (
    COLOURS,
    FAINT,
    INK,
    MARKERS,
    Chart,
    add_legend,
    budget_in_sight,
    new_chart,
    new_figure,
    rows_of,
    save_chart,
    sentences,
)
from kettlefield.weights.facts import ModelFacts

POINTS = 400  # a candidate; peaks are kept
_GROUPS = {
    "load": COLOURS[6],
    "timing": COLOURS[0],
    "several at once": COLOURS[3],
    "answers": COLOURS[2],
    "idle": COLOURS[4],
}


def group_of(phase: str) -> str:
    """Which group of phases one belongs to, for its colour."""
    if phase in {"load", "idle"}:
        return phase
    if phase.startswith("answers"):  # also with a part of the context filled
        return "answers"
    return "several at once" if phase.startswith("concurrency") or phase == "open_loop" else "timing"


def thinned(times_s: pd.Series, values: pd.Series) -> tuple[pd.Series, pd.Series]:
    """At most about `POINTS` samples, of each stretch the highest, so that no peak is lost."""
    if len(values) <= POINTS:
        return times_s, values
    stretch = pd.Series(range(len(values)), index=values.index) * POINTS // len(values)
    highest = values.groupby(stretch).idxmax()
    return times_s.loc[highest], values.loc[highest]


def over_time(series: pd.DataFrame, *, budget_bytes: float | None) -> Chart | None:
    """One panel a candidate: memory from its server's start to its end, phases shaded; None without a sample.

    Parameters
    ----------
    series : data frame
        Columns candidate, at_s (since the first sample), total_bytes, phase; in order.
    budget_bytes : int or None
        The plan's.
    """
    if series.empty:
        return None
    names = list(dict.fromkeys(series["candidate"]))
    scale = size_scale(series["total_bytes"].max())
    stated = budget_bytes
    budget_bytes, outside = budget_in_sight(budget_bytes, series["total_bytes"].max())
    figure, axes = new_figure(rows=len(names), height_in=1.2 + 1.05 * len(names), squeeze=False, sharey=True)
    used: dict[str, None] = {}
    for name, (each,) in zip(names, axes, strict=True):
        mine = series[series["candidate"] == name]
        runs = (mine["phase"] != mine["phase"].shift()).cumsum()
        for _, run in mine.groupby(runs, sort=False):
            group = group_of(str(run["phase"].iloc[0]))
            used[group] = None
            each.axvspan(run["at_s"].iloc[0], run["at_s"].iloc[-1], color=_GROUPS[group], alpha=0.22, linewidth=0)
        at, total = thinned(mine["at_s"], mine["total_bytes"])
        each.plot(at, total / scale.factor, color=INK, linewidth=1.2)
        if budget_bytes is not None:
            each.axhline(budget_bytes / scale.factor, color=COLOURS[1], linestyle="--", linewidth=1.1)
        each.set_title(name, loc="left", fontsize=9, color=INK)
        each.set_ylim(bottom=0)
        each.set_xlim(0, float(mine["at_s"].max()))
    axes[-1][0].set_xlabel("seconds since the server's start")
    figure.suptitle("Memory during the campaign", x=0.01, ha="left", fontsize=11, fontweight="bold", color=INK)
    figure.supylabel(f"memory, host and accelerator together ({scale.label})", fontsize=9, color=INK)
    _phase_key(figure, list(used), budget_bytes)
    peaks = series.groupby("candidate", sort=False)["total_bytes"].max()
    return Chart(
        name="memory-over-time",
        title="Memory during the campaign",
        alt=sentences(f"{name} peaks at {format_bytes(peak)}" for name, peak in peaks.items()),
        finding=findings.highest_peak({str(name): float(peak) for name, peak in peaks.items()}, stated),
        caption=f"{len(series):,} samples. The server's own share of host memory (PSS) and its accelerator memory; "
        f"shaded by the phase.{outside}",
        figure=figure,
    )


def predicted_beside_measured(frame: pd.DataFrame, *, budget_bytes: float | None) -> Chart | None:
    """Two bars a candidate; None where no header predicted anything.

    Parameters
    ----------
    frame : data frame
        Columns candidate, predicted_bytes, peak_bytes.
    budget_bytes : int or None
        The plan's.
    """
    known = frame.dropna(subset=["predicted_bytes", "peak_bytes"])
    if known.empty:
        return None
    most = known[["predicted_bytes", "peak_bytes"]].to_numpy().max()
    scale = size_scale(most)
    budget_bytes, outside = budget_in_sight(budget_bytes, most)
    figure, axes = new_chart("Peak memory: measured and predicted", height_in=1.5 + 0.5 * len(known))
    places = list(range(len(known)))[::-1]
    axes.barh(
        [p + 0.19 for p in places],
        known["peak_bytes"] / scale.factor,
        height=0.34,
        color=COLOURS[0],
        label="measured peak",
    )
    axes.barh(
        [p - 0.19 for p in places],
        known["predicted_bytes"] / scale.factor,
        height=0.34,
        color=COLOURS[4],
        hatch="//",
        edgecolor="white",
        label="predicted by the weights' header",
    )
    if budget_bytes is not None:
        axes.axvline(
            budget_bytes / scale.factor, color=COLOURS[1], linestyle="--", linewidth=1.2, label="memory budget"
        )
    axes.set_yticks(places, [str(name) for name in known["candidate"]])
    axes.grid(visible=False, axis="y")
    axes.grid(axis="x", color=FAINT, linewidth=0.6)
    axes.set_xlabel(f"memory ({scale.label})")
    add_legend(axes, loc="upper left", bbox_to_anchor=(0.0, -0.16), ncols=3, fontsize=9)
    return Chart(
        name="predicted-beside-measured",
        title="Peak memory: measured and predicted",
        alt=sentences(
            f"{row.candidate}: predicted {format_bytes(row.predicted_bytes)}, measured {format_bytes(row.peak_bytes)}"
            for row in rows_of(known)
        ),
        finding=findings.prediction_error(known),
        caption=f"Predicted: weights, KV cache at the configured context and streams, and an overhead that the "
        f"plan states, or else a rule of thumb.{outside}",
        figure=figure,
    )


def _phase_key(figure: object, groups: list[str], budget_bytes: float | None) -> None:
    from matplotlib.lines import Line2D  # noqa: PLC0415
    from matplotlib.patches import Patch  # noqa: PLC0415

    handles: list[object] = [Patch(facecolor=_GROUPS[group], alpha=0.35, label=group) for group in groups]
    if budget_bytes is not None:
        handles.append(Line2D([], [], color=COLOURS[1], linestyle="--", label="memory budget"))
    figure.legend(  # type: ignore[attr-defined]
        handles=handles, loc="outside lower center", ncols=len(handles), fontsize=9, frameon=False, labelcolor=INK
    )


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
