"""Every exercise on every candidate: how it ended, in letters as well as colours."""

from collections import Counter

import pandas as pd

from kettlefield.core.outcome import Outcome
from kettlefield.views.style import INK, Chart, new_figure, sentences

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
    found = {}
    for (exercise, candidate), group in trials.groupby(["exercise", "candidate"], sort=False)["first_outcome"]:
        outcomes = Counter(group)
        passed = outcomes.pop(Outcome.PASSED.value, 0)
        other = outcomes.most_common(1)[0][0] if outcomes else Outcome.PASSED.value
        found[str(exercise), str(candidate)] = (passed, len(group), str(other))
    return found


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
        caption=f"{len(exercises)} exercises. {key}. A number beside a letter: samples that passed.",
        figure=figure,
    )


def _square(column: int, row: int, colour: str) -> object:
    from matplotlib.patches import Rectangle  # noqa: PLC0415

    return Rectangle((column - 0.47, row - 0.44), 0.94, 0.88, facecolor=colour, edgecolor="none")


def _ink_on(colour: str) -> str:
    return "white" if colour == PASSED else "black"
