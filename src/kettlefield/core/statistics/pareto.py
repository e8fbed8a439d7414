"""Which candidates are beaten by no other on everything that counts at once, beyond what chance leaves open."""

import math
from collections.abc import Sequence

Range = tuple[float, float, float]  # low, value, high


def frontier(rows: Sequence[Sequence[Range]]) -> tuple[bool, ...]:
    """Whether each row is on the frontier: no other is better in one column and worse in none.

    Better and worse are differences beyond chance: those whose interval leaves out zero. Two that are equal to a
    third need not be equal to each other, so a row is only put out by one that is on the frontier itself.

    Parameters
    ----------
    rows : sequence of sequence of (low, value, high), shape (n, columns)
        Each figure with its interval; higher is better in every column.

    Source
    ------
    Pareto dominance, with indifference where the interval of a difference holds zero. That interval from the two
    figures' own: Zou and Donner (2008), Statistics in Medicine 27, 1693-1702.
    """
    left, kept = set(range(len(rows))), set()
    while left:
        unbeaten = {n for n in left if not any(_beats(rows[other], rows[n]) for other in left)}
        # all of them beaten in a ring: none is better than the others
        unbeaten = unbeaten or left
        kept |= unbeaten
        left = {n for n in left - unbeaten if not any(_beats(rows[other], rows[n]) for other in unbeaten)}
    return tuple(n in kept for n in range(len(rows)))


def _beats(other: Sequence[Range], row: Sequence[Range]) -> bool:
    pairs = list(zip(other, row, strict=True))
    return any(is_better(a, b) for a, b in pairs) and not any(is_better(b, a) for a, b in pairs)


def is_better(one: Range, other: Range) -> bool:
    """Whether one figure is higher than another beyond chance."""
    below, above = one[1] - one[0], other[2] - other[1]
    return one[1] - other[1] > math.hypot(below, above)
