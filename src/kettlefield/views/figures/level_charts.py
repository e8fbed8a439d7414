"""Levels side by side: pass rate and memory, difference to the reference, equal replies, every outcome."""

from collections import Counter
from collections.abc import Collection, Sequence
from typing import Any

import pandas as pd

from kettlefield.core.outcome import Outcome
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
    name_points,
    new_chart,
    new_figure,
    note,
    rows_of,
    sentences,
)

NEAR = 0.02  # of the highest peak, and in pass rate: names of points so near would stand on each other


def solved_against_memory(frame: pd.DataFrame, *, budget_bytes: float | None, trials: int) -> Chart | None:
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
        finding=findings.memory_saved(known),
        caption=f"Pass rate at the first attempt with 95 % intervals, up to {trials} trials each. Filled: no other "
        f"beats it on pass rate, memory and time for each solved exercise together.{outside}",
        figure=figure,
    )


SMALL_IN = (4.4, 2.9)  # width and height: beside words, less than half a page wide


def candidates_at_a_glance(
    frame: pd.DataFrame, *, chosen: Collection[str], most_bytes: float | None, least_rate: float | None
) -> Chart | None:
    """Every candidate's pass rate over its peak memory, the thresholds drawn, the recommended ones named.

    Parameters
    ----------
    frame : data frame
        Columns candidate, model, level, pass_rate, low, high (shares), peak_bytes.
    chosen : collection of str
        The recommended candidates.
    most_bytes, least_rate : float or None
        The thresholds of peak memory and pass rate, where the plan has them.
    """
    known = frame.dropna(subset=["pass_rate", "peak_bytes"])
    if known.empty:
        return None
    scale = size_scale(known["peak_bytes"].max())
    most_bytes, outside = budget_in_sight(most_bytes, known["peak_bytes"].max())
    width_in, height_in = SMALL_IN
    figure, axes = new_chart("Pass rate and peak memory", height_in=height_in, width_in=width_in)
    for number, (_, of_model) in enumerate(known.groupby("model", sort=False)):
        colour, marker = COLOURS[number % len(COLOURS)], MARKERS[number % len(MARKERS)]
        for row in rows_of(of_model):
            x, is_chosen = row.peak_bytes / scale.factor, row.candidate in chosen
            axes.vlines(x, row.low, row.high, color=colour, linewidth=2.0 if is_chosen else 1.0)
            axes.plot(x, row.pass_rate, marker, color=colour, markersize=9 if is_chosen else 6)[0].set_markerfacecolor(
                colour if is_chosen else "none"
            )
    if most_bytes is not None:
        axes.axvline(most_bytes / scale.factor, color=INK, linestyle="--", linewidth=1.1)
        at = (most_bytes / scale.factor, 0.0)
        note(axes, "at most", at, xytext=(3, 2), rotation=90, va="bottom", fontsize=7.5)
    if least_rate is not None:
        axes.axhline(least_rate, color=INK, linestyle=":", linewidth=1.1)
        note(axes, "at least", (0.0, least_rate), xytext=(2, 3), fontsize=8, xycoords=("axes fraction", "data"))
    axes.set_xlabel(f"peak memory ({scale.label})")
    axes.set_ylabel("pass rate")
    axes.set_ylim(-0.03, 1.08)
    axes.set_xlim(0, 1.06 * max(known["peak_bytes"].max(), most_bytes or 0) / scale.factor)
    styles: dict[bool, dict[str, Any]] = {True: {"fontsize": 8, "weight": "bold"}, False: {"fontsize": 7.5}}
    name_points(
        axes,
        [
            (text, row.peak_bytes / scale.factor, row.pass_rate, styles[row.candidate in chosen])
            for text, row in _names(known, chosen)
        ],
    )
    named = " Filled and named: recommended." if chosen else ""
    return Chart(
        name="at-a-glance",
        title="Pass rate and peak memory",
        alt=sentences(
            f"{row.candidate} solves {row.pass_rate:.2f} ({row.low:.2f} to {row.high:.2f}) "
            f"in {format_bytes(row.peak_bytes)}" + (", recommended" if row.candidate in chosen else "")
            for row in rows_of(known)
        ),
        caption=f"Bars: 95 % intervals. Lines: thresholds.{named}{outside}",
        figure=figure,
    )


def _names(known: pd.DataFrame, chosen: Collection[str]) -> list[tuple[str, Any]]:
    """What stands beside each point; points that lie on each other, as of one level on several rigs, share a name."""
    spots: list[list[Any]] = []
    near_bytes = NEAR * known["peak_bytes"].max()
    for row in sorted(rows_of(known), key=lambda row: row.candidate not in chosen):
        for spot in spots:
            first = spot[0]
            if abs(row.peak_bytes - first.peak_bytes) < near_bytes and abs(row.pass_rate - first.pass_rate) < NEAR:
                spot.append(row)
                break
        else:
            spots.append([row])
    named = {row.model for row in rows_of(known) if row.candidate in chosen}
    # a model of which none is recommended is named at its best level, since colours say nothing by themselves
    best = known[~known["model"].isin(named)].sort_values("pass_rate").groupby("model")["candidate"].last()
    return [(_name_of(spot, chosen if spot[0].candidate in chosen else best.tolist()), spot[0]) for spot in spots]


def _name_of(spot: Sequence[Any], chosen: Collection[str]) -> str:
    """The recommended candidates at a spot, those that differ in their rigs alone in short; else the levels there."""
    named = [str(row.candidate) for row in spot if row.candidate in chosen]
    if not named:
        return ", ".join(dict.fromkeys(str(row.level) for row in spot))
    rigs: dict[str, list[str]] = {}
    for name in named:
        level, _, rig = name.partition(" on ")
        rigs.setdefault(level, []).append(rig)
    return ", ".join(f"{level} on {', '.join(where)}" if all(where) else level for level, where in rigs.items())


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
        finding=findings.losses(frame),
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
        finding=findings.closest_replies(frame),
        caption="First replies to the same prompts with the same seeds; no check is needed for it.",
        figure=figure,
    )


LETTERS = {
    Outcome.PASSED: "P",
    Outcome.WRONG_ANSWER: "W",
    Outcome.CRASHED: "C",
    Outcome.NO_BUILD: "B",
    Outcome.MISSING_MODULE: "M",
    Outcome.WRONG_LANGUAGE: "L",
    Outcome.NO_CODE: "N",
    Outcome.OVER_CONTEXT: "E",
    Outcome.CUT_OFF: "U",
    Outcome.LOOPING: "O",
    Outcome.GAVE_UP: "G",
    Outcome.OVER_TURNS: "V",
    Outcome.BROKE_BUILD: "K",
    Outcome.TOUCHED_PROTECTED: "F",
    Outcome.DECLINED: "D",
    Outcome.TIMED_OUT: "T",
    Outcome.OVER_LIMIT: "X",
    Outcome.SERVER_FAULT: "s",
    Outcome.RIG_FAULT: "r",
}
PASSED, SOME, NONE, FAULT = "#0072B2", "#56B4E9", "#E69F00", "#9a9a9a"  # all samples, some, none; a fault
MOST_DRAWN = 150  # exercises: beyond that letters would not be read


def outcome_cells(trials: pd.DataFrame) -> dict[tuple[str, str], tuple[int, int, str]]:
    """For each exercise and candidate: samples passed at first, samples run, the most frequent outcome of the others.

    Parameters
    ----------
    trials : data frame
        Columns candidate, exercise, first_outcome.
    """
    cells = {}
    for (exercise, candidate), group in trials.groupby(["exercise", "candidate"], sort=False)["first_outcome"]:
        outcomes = Counter(group)
        passed = outcomes.pop(Outcome.PASSED.value, 0)
        other = outcomes.most_common(1)[0][0] if outcomes else Outcome.PASSED.value
        cells[str(exercise), str(candidate)] = (passed, len(group), str(other))
    return cells


def colour_of(cell: tuple[int, int, str]) -> str:
    """The colour of a cell."""
    passed, run, other = cell
    if passed == run:
        return PASSED
    if Outcome(other) in {Outcome.SERVER_FAULT, Outcome.RIG_FAULT}:
        return FAULT
    return SOME if passed else NONE


def letter_of(cell: tuple[int, int, str]) -> str:
    """The letter of a cell: of how it failed where it did, with the number that passed beside it."""
    passed, run, other = cell
    return LETTERS[Outcome(other)] + (f" {passed}/{run}" if 0 < passed < run else "")


def outcome_grid(trials: pd.DataFrame, candidates: list[str]) -> Chart | None:
    """The grid as a figure; None without a trial, or for more exercises than can be read.

    Parameters
    ----------
    trials : data frame
        Columns candidate, exercise, first_outcome.
    candidates : list of str
        In the order of the columns.
    """
    cells = outcome_cells(trials)
    exercises = sorted({exercise for exercise, _ in cells})
    if not cells or len(exercises) > MOST_DRAWN:
        return None
    figure, axes = new_figure(height_in=1.8 + 0.2 * len(exercises))
    for row, exercise in enumerate(exercises):
        for column, candidate in enumerate(candidates):
            cell = cells.get((exercise, candidate))
            if cell is None:
                continue
            axes.add_patch(_square(column, row, colour_of(cell)))
            axes.text(
                column, row, letter_of(cell), ha="center", va="center", fontsize=7, color=_ink_on(colour_of(cell))
            )
    axes.set_xlim(-0.5, len(candidates) - 0.5)
    axes.set_ylim(len(exercises) - 0.5, -0.5)
    axes.set_xticks(range(len(candidates)), candidates, rotation=35, ha="left", fontsize=8)
    axes.xaxis.tick_top()
    axes.set_yticks(range(len(exercises)), exercises, fontsize=7)
    axes.tick_params(length=0)
    axes.grid(visible=False)
    axes.spines[:].set_visible(False)
    used = {Outcome(other) for _, _, other in cells.values()} | {Outcome.PASSED}
    key = ", ".join(f"{letter} {outcome.value}" for outcome, letter in LETTERS.items() if outcome in used)
    axes.set_xlabel(key, fontsize=8, color=INK)
    whole = {name: sum(cells[pair][0] == cells[pair][1] for pair in cells if pair[1] == name) for name in candidates}
    return Chart(
        name="outcome-grid",
        title="Which exercises fail, on which level, and how",
        alt=sentences(
            f"{name} solves {count} of {len(exercises)} exercises in every sample" for name, count in whole.items()
        ),
        finding=findings.shared_failures(cells, len(exercises)),
        caption=f"{key}. A number beside a letter: samples that passed.",
        figure=figure,
    )


def _square(column: int, row: int, colour: str) -> object:
    from matplotlib.patches import Rectangle  # noqa: PLC0415

    return Rectangle((column - 0.47, row - 0.44), 0.94, 0.88, facecolor=colour, edgecolor="none")


def _ink_on(colour: str) -> str:
    return "white" if colour == PASSED else "black"
