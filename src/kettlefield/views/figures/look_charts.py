"""How a decision came about: a figure and its bounds over the exercises asked, with the threshold."""

import math

import pandas as pd

from kettlefield.views.style import COLOURS, Chart, head, new_figure, note, rows_of, sentences

MOST_PANELS = 12
COLUMNS = 4


def looks_over_exercises(frame: pd.DataFrame, *, number: int, label: str, threshold: float, unit: str) -> Chart | None:
    """One criterion, a panel for each candidate; None where nothing was looked at.

    Parameters
    ----------
    frame : data frame
        Columns candidate, exercises, planned, value, low, high (shares, or differences of shares), status.
    number : int
        Of the criterion, from 1.
    label : str
        The criterion in words.
    threshold : float
        On which side of it the bounds must lie.
    unit : str
        Of the figure, for the axis.
    """
    known = frame.dropna(subset=["value", "low", "high"])
    names = list(known["candidate"].unique())[:MOST_PANELS]
    if not names:
        return None
    columns = min(COLUMNS, len(names))
    rows = math.ceil(len(names) / columns)
    figure, grid = new_figure(
        rows=rows, columns=columns, height_in=0.7 + 2.2 * rows, sharex=True, sharey=True, squeeze=False
    )
    panels = list(grid.flat)
    for axes in panels[len(names) :]:
        axes.set_visible(False)
    for axes, name in zip(panels, names, strict=False):
        mine = known[known["candidate"] == name].sort_values("exercises")
        head(axes, name)
        axes.fill_between(mine["exercises"], mine["low"], mine["high"], color=COLOURS[0], alpha=0.18, linewidth=0)
        axes.vlines(mine["exercises"], mine["low"], mine["high"], color=COLOURS[0], linewidth=0.8)
        axes.plot(mine["exercises"], mine["value"], color=COLOURS[0], marker="o", markersize=4)
        axes.axhline(threshold, color=COLOURS[1], linestyle="--", linewidth=1.2)
        decided = mine[mine["status"] != "undecided"].head(1)
        for row in rows_of(decided):
            away, side = (-5, "top") if row.status == "met" else (5, "bottom")
            marker = {"marker": "^" if row.status == "met" else "v", "color": COLOURS[2 if row.status == "met" else 1]}
            axes.plot(row.exercises, row.value, **marker, markersize=9, clip_on=False)
            note(axes, row.status, (row.exercises, row.value), xytext=(-8, away), ha="right", va=side)
        axes.set_xlim(0, float(known["planned"].max()) * 1.04)
    for axes in grid[:, 0]:
        axes.set_ylabel(unit)
    for axes in panels[max(0, len(names) - columns) : len(names)]:
        axes.set_xlabel("exercises asked")
        axes.xaxis.set_tick_params(labelbottom=True)
    return Chart(
        name=f"looks-{number}",
        title=f"How it was decided: {label}",
        alt=sentences(
            f"{row.candidate} after {row.exercises}: {row.value:.2f} ({row.low:.2f} to {row.high:.2f}), {row.status}"
            for row in rows_of(known)
        ),
        finding=_finding(known),
        caption="The figure after each block with the bounds of that look, wide at first so that all looks together "
        "hold; dashed: the threshold. A triangle marks the look that decided.",
        figure=figure,
    )


def _finding(known: pd.DataFrame) -> str:
    """Which candidates were decided when, those together that were decided at one look."""
    first = known[known["status"] != "undecided"].groupby("candidate", sort=False).first()
    ends: dict[str, list[str]] = {}
    for name, row in first.iterrows():
        ends.setdefault(f"{row['status']} after {row['exercises']} of {row['planned']} exercises", []).append(str(name))
    open_ones = [name for name in known["candidate"].unique() if name not in first.index]
    ends |= {"open": open_ones} if open_ones else {}
    return sentences(f"{end}: {', '.join(names)}" for end, names in ends.items())
