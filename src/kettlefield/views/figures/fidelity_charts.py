"""What quantisation took: divergence from the reference level over bits a weight, and the pass rate beside it."""

import pandas as pd

from kettlefield.views.figures.findings import divergence
from kettlefield.views.style import COLOURS, MARKERS, Chart, add_legend, head, new_figure, note, rows_of, sentences


def divergence_over_bits(frame: pd.DataFrame) -> Chart | None:
    """KL divergence and pass rate over bits a weight; None where no level was compared with its reference.

    Parameters
    ----------
    frame : data frame
        Columns candidate, model, level, bits (a weight), kl, kl_low, kl_high (nats; a reference level has none),
        pass_rate, low, high (shares; may be missing), texts.
    """
    known = frame.dropna(subset=["bits", "kl"])
    if known.empty:
        return None
    title = "What fewer bits take: next-token divergence, and solved exercises"
    figure, (left, right) = new_figure(columns=2)
    head(left, "KL divergence from the reference level")
    head(right, "Pass rate of the same levels")
    for number, (model, of_model) in enumerate(frame.dropna(subset=["bits"]).groupby("model", sort=False)):
        look = {"color": COLOURS[number % len(COLOURS)], "marker": MARKERS[number % len(MARKERS)]}
        compared = of_model.dropna(subset=["kl"]).sort_values("bits")
        # a bound at or below 0 has no place on a logarithmic axis: the line then goes to its lower end
        floor = float(known["kl"].min()) / 3
        left.vlines(compared["bits"], compared["kl_low"].clip(lower=floor), compared["kl_high"], color=look["color"])
        left.plot(compared["bits"], compared["kl"], **look, markersize=7, linewidth=0.8, label=str(model))
        for row in rows_of(compared):
            note(left, row.level, (row.bits, row.kl), xytext=(6, 4))
        solved = of_model.dropna(subset=["pass_rate"]).sort_values("bits")
        right.vlines(solved["bits"], solved["low"], solved["high"], color=look["color"])
        right.plot(solved["bits"], solved["pass_rate"], **look, markersize=7, linewidth=0.8, label=str(model))
        for row in rows_of(solved):
            note(right, row.level, (row.bits, row.pass_rate), xytext=(6, 4))
    left.set_yscale("log")
    left.set_ylabel("KL divergence (nats, a lower bound)")
    right.set_ylabel("pass rate (share of trials)")
    right.set_ylim(-0.03, 1.05)
    for axes in (left, right):
        axes.set_xlabel("bits a weight")
        axes.margins(x=0.12)
    left.set_xlim(right.get_xlim() if len(right.lines) else left.get_xlim())
    if frame["model"].nunique() > 1:
        add_legend(left)
    texts = int(known["texts"].max())
    return Chart(
        name="divergence-over-bits",
        title=title,
        alt=sentences(
            f"{row.candidate}, {row.bits:.2f} bits a weight: {row.kl:.2g} ({row.kl_low:.2g} to {row.kl_high:.2g}) nats"
            for row in rows_of(known)
        ),
        finding=divergence(known),
        caption=f"Mean over positions of up to {texts} fixed texts, with 95 % intervals over texts; logarithmic. "
        "Right: pass rate at the first attempt with 95 % intervals.",
        figure=figure,
    )
