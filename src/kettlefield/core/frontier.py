"""Which candidates no other beats on everything that counts at once."""

from collections.abc import Sequence


def frontier(rows: Sequence[Sequence[float]]) -> tuple[bool, ...]:
    """Whether each row is on the frontier: no other is at least as good in every column and better in one.

    Parameters
    ----------
    rows : sequence of sequence of float, shape (n, columns)
        Higher is better in every column.

    Source
    ------
    Pareto dominance.
    """

    def beats(other: Sequence[float], row: Sequence[float]) -> bool:
        pairs = list(zip(other, row, strict=True))
        return all(a >= b for a, b in pairs) and any(a > b for a, b in pairs)

    return tuple(not any(beats(other, row) for other in rows) for row in rows)
