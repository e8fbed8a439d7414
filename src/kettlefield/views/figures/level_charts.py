"""Levels side by side: solved against memory, the difference to the reference, how far replies follow it."""

import pandas as pd

from kettlefield.core.units import format_bytes, size_scale
from kettlefield.views.style import (
    COLOURS,
    FAINT,
    INK,
    MARKERS,
    Chart,
    add_legend,
    budget_in_sight,
    new_chart,
    note,
    rows_of,
    sentences,
)


def solved_against_memory(frame: pd.DataFrame, *, budget_bytes: int | None, trials: int) -> Chart | None:
    """Pass rate over peak memory with intervals, the budget and the frontier; None without a candidate of both.

    Parameters
    ----------
    frame : data frame
        Columns candidate, model, pass_rate, low, high (shares), peak_bytes, frontier (bool).
    budget_bytes : int or None
        The plan's.
    trials : int
        Of each candidate, at the most.
    """
    known = frame.dropna(subset=["pass_rate", "peak_bytes"])
    if known.empty:
        return None
    scale = size_scale(known["peak_bytes"].max())
    budget_bytes, outside = budget_in_sight(budget_bytes, known["peak_bytes"].max())
    figure, axes = new_chart("Pass rate and peak memory of each level")
    for number, (model, of_model) in enumerate(known.groupby("model", sort=False)):
        colour, marker = COLOURS[number % len(COLOURS)], MARKERS[number % len(MARKERS)]
        ordered = of_model.sort_values("peak_bytes")
        x, y = ordered["peak_bytes"] / scale.factor, ordered["pass_rate"]
        axes.plot(x, y, color=colour, linewidth=0.8, alpha=0.5)
        axes.vlines(x, ordered["low"], ordered["high"], color=colour, linewidth=1.6)
        filled = ordered["frontier"].astype(bool)
        axes.plot(x[filled], y[filled], marker, color=colour, markersize=8, label=str(model), linestyle="")
        axes.plot(x[~filled], y[~filled], marker, color=colour, markersize=8, markerfacecolor="none", linestyle="")
        for row in rows_of(ordered):
            note(axes, row.level, (row.peak_bytes / scale.factor, row.pass_rate), xytext=(7, 5))
    if budget_bytes is not None:
        axes.axvline(budget_bytes / scale.factor, color=INK, linestyle="--", linewidth=1.2)
        note(axes, "memory budget", (budget_bytes / scale.factor, 0.3), xytext=(4, 0))
    axes.set_xlabel(f"peak memory ({scale.label})")
    axes.set_ylabel("pass rate (share of trials)")
    axes.set_ylim(-0.03, 1.05)
    if known["peak_bytes"].min() < known["peak_bytes"].max() / 2:  # else all would crowd at the right
        axes.set_xlim(left=0)
    else:
        axes.margins(x=0.1)
    add_legend(axes, loc="lower right", fontsize=9)
    return Chart(
        name="solved-against-memory",
        title="Pass rate and peak memory of each level",
        alt=sentences(
            f"{row.candidate} solves {row.pass_rate:.2f} ({row.low:.2f} to {row.high:.2f}) "
            f"in {format_bytes(row.peak_bytes)}"
            for row in rows_of(known)
        ),
        caption=f"Pass rate at the first attempt with 95 % intervals, up to {trials} trials each. Filled: no other "
        f"beats it on pass rate, memory and time for each solved exercise together.{outside}",
        figure=figure,
    )


def differences(frame: pd.DataFrame, *, margin: float | None, confidence: float) -> Chart | None:
    """Each level's difference to its reference with the accepted margin; None without a pair.

    Parameters
    ----------
    frame : data frame
        Columns candidate, against, difference, low, high (two-sided 95 %), lower_bound, upper_bound (one-sided), pairs.
    margin : float or None
        The drop that the plan accepts, where it sets one.
    confidence : float
        Of the one-sided bounds.
    """
    if frame.empty:
        return None
    figure, axes = new_chart("Difference in pass rate to the reference level", height_in=1.5 + 0.42 * len(frame))
    places = list(range(len(frame)))[::-1]
    for place, row in zip(places, rows_of(frame), strict=True):
        axes.plot([row.low, row.high], [place, place], color=COLOURS[0], linewidth=1.2)
        bounds = [row.lower_bound, row.upper_bound]
        axes.plot(bounds, [place, place], color=COLOURS[0], linewidth=6, alpha=0.55, solid_capstyle="butt")
        axes.plot(row.difference, place, "D", color=COLOURS[0], markersize=7)
    axes.axvline(0, color=INK, linewidth=0.8)
    if margin is not None:
        axes.axvline(-margin, color=COLOURS[1], linestyle="--", linewidth=1.4)
        note(axes, f"accepted drop {margin:g}", (-margin, len(frame) - 0.55), xytext=(-4, 0), ha="right")
    axes.set_yticks(places, [str(row.candidate) for row in rows_of(frame)])
    axes.set_ylim(-0.6, len(frame) - 0.3)
    axes.set_xlim(min(-0.5, float(frame["low"].min()) - 0.05), max(0.3, float(frame["high"].max()) + 0.05))
    axes.grid(axis="x", color=FAINT, linewidth=0.6)
    axes.grid(visible=False, axis="y")
    axes.set_xlabel("pass rate less that of the reference level (share)")
    pairs = sorted({int(count) for count in frame["pairs"]})
    return Chart(
        name="difference-to-reference",
        title="Difference in pass rate to the reference level, on the same exercises",
        alt=sentences(
            f"{row.candidate} differs from {row.against} by {row.difference:+.2f} ({row.low:+.2f} to {row.high:+.2f})"
            for row in rows_of(frame)
        ),
        caption=f"Paired by exercise and sample, {' or '.join(map(str, pairs))} pairs each; Tango's score interval. "
        f"Thick: one-sided bounds at {confidence:.0%}, which decide; thin: the two-sided 95 % interval.",
        figure=figure,
    )


def agreement(frame: pd.DataFrame) -> Chart | None:
    """How often each level's reply and code are those of its reference; None without a pair.

    Parameters
    ----------
    frame : data frame
        Columns candidate, reference, pairs, identical, same_code, with_answer.
    """
    if frame.empty:
        return None
    title = "Replies equal to the reference level's"
    figure, axes = new_chart(title, height_in=1.5 + 0.5 * len(frame))
    places = list(range(len(frame)))[::-1]
    same = [row.same_code / row.with_answer if row.with_answer else 0.0 for row in rows_of(frame)]
    identical = [row.identical / row.pairs for row in rows_of(frame)]
    axes.barh(
        [place + 0.19 for place in places], same, height=0.34, color=COLOURS[0], label="the same code, layout apart"
    )
    axes.barh(
        [place - 0.19 for place in places],
        identical,
        height=0.34,
        color=COLOURS[4],
        hatch="//",
        edgecolor="white",
        label="identical to the letter",
    )
    axes.set_yticks(places, [str(row.candidate) for row in rows_of(frame)])
    axes.set_xlim(0, 1)
    axes.grid(visible=False, axis="y")
    axes.set_xlabel("share of replies")
    add_legend(axes, loc="upper left", bbox_to_anchor=(0.0, -0.18), ncols=2, fontsize=9)
    return Chart(
        name="reply-agreement",
        title="Replies equal to the reference level's",
        alt=sentences(
            f"{row.candidate}: {row.identical} of {row.pairs} replies identical, "
            f"{row.same_code} of {row.with_answer} answers the same code"
            for row in rows_of(frame)
        ),
        caption="First replies to the same prompts with the same seeds; no check is needed for it.",
        figure=figure,
    )
