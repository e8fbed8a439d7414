"""How much more of the same evidence would settle what is undecided."""

import math
from collections.abc import Callable, Sequence

from kettlefield.core.halving import first_that
from kettlefield.core.intervals import effective_trials, wilson_interval

SLACK = 1e-6  # of an exercise: what halving leaves
MOST_MORE = 64.0  # times what there is: beyond that more of the same settles nothing in practice


def least_growth(settles: Callable[[float], bool]) -> float | None:
    """The least factor, up to `MOST_MORE`, by which evidence must grow until it settles; None: not even that does.

    Parameters
    ----------
    settles : callable
        Whether so many times the evidence would settle it; once it does, more must too.
    """
    if not settles(MOST_MORE):
        return None
    return first_that(settles, 1.0, MOST_MORE)


def exercises_to_clear(
    passed: Sequence[int], asked: Sequence[int], threshold: float, *, confidence: float
) -> int | None:
    """How many exercises in all would put a pass rate's bound on one side of a threshold, if the rate stays.

    Parameters
    ----------
    passed, asked : sequence of int, shape (n_exercises,)
        As `pass_ratio` takes them.
    threshold : float
        A ratio within [0, 1].
    confidence : float
        One-sided, within (0.5, 1).

    Returns
    -------
    int or None
        None: it lies so near the threshold that more exercises would hardly settle it.
    """
    worth, ratio = effective_trials(passed, asked), sum(passed) / sum(asked)

    def settles(times: float) -> bool:
        counted = worth * times
        low, high = wilson_interval(min(ratio * counted, counted), counted, confidence=2 * confidence - 1)
        return low >= threshold or high < threshold

    growth = least_growth(settles)
    return None if growth is None else math.ceil(growth * len(asked) - SLACK)
