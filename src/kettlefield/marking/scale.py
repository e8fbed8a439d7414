"""The scale of marks, what they weigh, and the blind order in which replies are marked."""

import hashlib
import math
from collections.abc import Iterable

import msgspec

LOWEST, HIGHEST = 0, 4
MOST_WEIGHT = 0.5  # of all marks together: the checks stay the greater part
CATEGORIES = HIGHEST - LOWEST + 1
SHEET_FORMAT = "kettlefield marks 1"  # what a sheet saves says so of itself
AGAIN_SHARE = 0.1  # of the replies, shown a second time to see whether the mark holds
AGAIN_LEAST = 5
GENERAL_GUIDANCE = """\
4: right and clear; I would take it as it is
3: right, with one thing that I would have changed
2: a good part of it is right; it needs work
1: something of use, most of it is not
0: wrong, broken, or beside the question"""


class Weights(msgspec.Struct, frozen=True, kw_only=True):
    """What marks count for beside the checks; shares of the score, together at most half."""

    people: float = 0.0
    judge: float = 0.0
    agreement_at_least: float = 0.6  # kappa with people's marks that a judge's must reach to count at all

    def without_judge(self) -> "Weights":
        """The same with the judge's marks shown and not used."""
        return Weights(people=self.people, agreement_at_least=self.agreement_at_least)


class Showing(msgspec.Struct, frozen=True, kw_only=True):
    """One reply as it is shown to one marker."""

    exercise: str
    item: str  # digest of what is shown
    showing: int  # 1, or 2 when it comes again


def order_of(items: Iterable[tuple[str, str]], marker: str) -> tuple[Showing, ...]:
    """All that a marker is to mark: in an order of chance, an exercise's replies together, some again at the end.

    The order hangs on the marker's name and on each reply alone: it is the same when marking continues another
    day, and replies that come later leave the others where they were.

    Parameters
    ----------
    items : iterable of (str, str)
        Exercise and digest of each reply.
    marker : str
        Whose order.
    """
    known = sorted(set(items), key=lambda one: (_draw(marker, one[0]), _draw(marker, *one)))
    wanted = min(len(known), max(AGAIN_LEAST, math.ceil(AGAIN_SHARE * len(known))))
    again = set(sorted(known, key=lambda one: _draw(marker, *one, "again"))[:wanted])
    return (
        *(Showing(exercise=exercise, item=item, showing=1) for exercise, item in known),
        *(Showing(exercise=exercise, item=item, showing=2) for exercise, item in known if (exercise, item) in again),
    )


def _draw(*words: str) -> bytes:
    return hashlib.sha256("\0".join(words).encode()).digest()
