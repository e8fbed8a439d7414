"""Which candidates are beaten by no other on everything that counts at once, beyond what chance leaves open."""

from collections.abc import Sequence

Range = tuple[float, float]


def frontier(rows: Sequence[Sequence[Range]]) -> tuple[bool, ...]:
    """Whether each row is on the frontier: no other is better in one column and worse in none.

    Better and worse are differences beyond the ranges: two that overlap are equal.

    Parameters
    ----------
    rows : sequence of sequence of (low, high), shape (n, columns)
        The range in which each figure lies; higher is better in every column.

    Source
    ------
    Pareto dominance, with indifference where intervals overlap.
    """

    def beats(other: Sequence[Range], row: Sequence[Range]) -> bool:
        pairs = list(zip(other, row, strict=True))
        return all(a[1] >= b[0] for a, b in pairs) and any(a[0] > b[1] for a, b in pairs)

    return tuple(not any(beats(other, row) for other in rows) for row in rows)
