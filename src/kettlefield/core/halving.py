"""Where a condition begins to hold, found by halving."""

from collections.abc import Callable

STEPS = 60  # halves the range each time: far below what is printed


def first_that(holds: Callable[[float], bool], low: float, high: float) -> float:
    """The least value from which a condition holds, to the precision of floating point.

    Parameters
    ----------
    holds : callable
        False up to some value of the range, true from there on.
    low, high : float
        The range; at its upper end the condition holds.
    """
    for _ in range(STEPS):
        middle = (low + high) / 2
        low, high = (low, middle) if holds(middle) else (middle, high)
    return high
