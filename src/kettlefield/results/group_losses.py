"""Where levels lose against their reference: exercises lost and won by kind and language, and whether by chance."""

from collections.abc import Sequence

import msgspec
import pandas as pd

from kettlefield.core.statistics.paired import exact_p, holm
from kettlefield.results.comparison import Figures
from kettlefield.results.rows import ExerciseRow

BY_CHANCE = 0.05  # p, adjusted for all groups that are looked at together


class GroupLoss(msgspec.Struct, frozen=True, kw_only=True):
    """One level in one group of exercises, against its reference level."""

    candidate: str
    grouping: str  # "kind" or "language"
    group: str
    exercises: int  # that both were asked
    lost: int  # of which the level solved a smaller share of the samples
    won: int
    p: float  # exact, over those lost and won
    p_adjusted: float  # by Holm's method, for every group of every level of this grouping

    @property
    def is_shown(self) -> bool:
        """Whether it lost more than it won beyond chance."""
        return self.lost > self.won and self.p_adjusted < BY_CHANCE


def group_losses(
    rows: Sequence[Figures], counted: pd.DataFrame, exercises: Sequence[ExerciseRow], grouping: str
) -> tuple[GroupLoss, ...]:
    """Every level that has a reference, in every group.

    Parameters
    ----------
    rows : sequence of Figures
        The candidates.
    counted : DataFrame
        Trials that count, with ``candidate``, ``exercise`` and ``passed``.
    exercises : sequence of ExerciseRow
        What was asked.
    grouping : str
        "kind" or "language".
    """
    group_of = {one.id: str(getattr(one, grouping)) for one in exercises}
    shares = counted.groupby(["candidate", "exercise"])["passed"].mean()
    found: list[tuple[str, str, int, int, int]] = []
    for row in rows:
        if row.against is None or row.candidate not in shares or row.against.reference not in shares:
            continue
        both = pd.concat([shares[row.candidate], shares[row.against.reference]], axis=1, join="inner")
        gap = (both.iloc[:, 0] - both.iloc[:, 1]).groupby(both.index.map(group_of))
        found += [
            (row.candidate, str(name), len(gaps), int((gaps < 0).sum()), int((gaps > 0).sum())) for name, gaps in gap
        ]
    plain = [exact_p(won, lost) for *_, lost, won in found]
    return tuple(
        GroupLoss(
            candidate=name, grouping=grouping, group=group, exercises=many, lost=lost, won=won, p=p, p_adjusted=adjusted
        )
        for (name, group, many, lost, won), p, adjusted in zip(found, plain, holm(plain), strict=True)
    )


def least_shown(groups: int) -> int:
    """The fewest exercises that must be lost, and none won, before one of so many groups shows a loss beyond chance."""
    lost = 1
    while exact_p(0, lost) * max(groups, 1) >= BY_CHANCE:
        lost += 1
    return lost
