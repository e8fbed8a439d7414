"""Correctness as the context fills: pass rate and time to first token over the share of the context that is taken."""

import pandas as pd

from kettlefield.views.figures.findings import as_it_fills
from kettlefield.views.style import COLOURS, MARKERS, Chart, add_legend, head, new_figure, rows_of, sentences


def pass_rate_over_fill(frame: pd.DataFrame) -> Chart | None:
    """Pass rate and median time to first token over the fill; None where nothing was asked with files before it.

    Parameters
    ----------
    frame : data frame
        Columns candidate, fill (share; 0 is the exercise alone), pass_rate, low, high (shares), difference,
        difference_low, difference_high (to the exercise alone; missing at 0), ttft_s, trials.
    """
    known = frame.dropna(subset=["pass_rate"])
    if known["fill"].nunique() < 2:
        return None
    figure, (left, right) = new_figure(columns=2)
    head(left, "Pass rate")
    head(right, "Median time to first token")
    names = list(known["candidate"].unique())
    step = 0.012 * (known["fill"].max() or 1.0)  # side by side, so that intervals can be told apart
    for number, name in enumerate(names):
        mine = known[known["candidate"] == name].sort_values("fill")
        look = {"color": COLOURS[number % len(COLOURS)], "marker": MARKERS[number % len(MARKERS)]}
        at = mine["fill"] + (number - (len(names) - 1) / 2) * step
        left.vlines(at, mine["low"], mine["high"], color=look["color"])
        left.plot(at, mine["pass_rate"], **look, markersize=7, linewidth=0.8)
        timed = mine.dropna(subset=["ttft_s"])
        right.plot(timed["fill"], timed["ttft_s"], **look, markersize=7, linewidth=0.8, label=name)
    left.set_ylabel("pass rate (share of trials)")
    left.set_ylim(-0.03, 1.05)
    right.set_ylabel("TTFT (s)")
    right.set_ylim(0, 1.1 * float(known["ttft_s"].max()) if known["ttft_s"].notna().any() else None)
    for axes in (left, right):
        axes.set_xlabel("share of the context taken before the reply")
        axes.xaxis.set_major_formatter(lambda value, _: f"{value:.0%}")
        axes.margins(x=0.06)
    add_legend(right, loc="lower right")
    return Chart(
        name="pass-rate-over-fill",
        title="Correctness as the context fills",
        alt=sentences(
            f"{row.candidate}, {row.fill:.0%} full: {row.pass_rate:.2f} ({row.low:.2f} to {row.high:.2f})"
            for row in rows_of(known)
        ),
        finding=as_it_fills(known),
        caption=f"Project files stand before the task; 0 % is the exercise alone. Up to {int(known['trials'].max())} "
        "trials a point, 95 % intervals; points lie side by side for the eye.",
        figure=figure,
    )
