"""What differs between two states of plain data, by the path to it."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

ABSENT = "not there"


@dataclass(frozen=True, slots=True, kw_only=True)
class Change:
    """One thing that differs."""

    what: str  # the path to it: "toolchains rust"
    then: str
    now: str


def changes_between(then: Any, now: Any, *, path: str = "") -> tuple[Change, ...]:
    """Every leaf that differs, in the order of the older state.

    Parameters
    ----------
    then, now : JSON value
        Mappings are gone into, of lists the items that differ are named; all else is compared whole.
    path : str
        What leads to them, for the reader.
    """
    if then == now:
        return ()
    if isinstance(then, list) and isinstance(now, list):
        # of lists what one has and the other has not; where that is nothing, their order
        gone, come = ([one for one in side if one not in other] for side, other in ((then, now), (now, then)))
        if gone or come:
            return (Change(what=path, then=_items(gone), now=_items(come)),)
    if not isinstance(then, Mapping) or not isinstance(now, Mapping):
        return (Change(what=path, then=_words(then), now=_words(now)),)
    found: list[Change] = []
    for key in dict.fromkeys([*then, *now]):
        inner = f"{path} {key}".strip()
        found += changes_between(then.get(key, ABSENT), now.get(key, ABSENT), path=inner)
    return tuple(found)


def _items(items: list[Any]) -> str:
    return " ".join(map(_words, items)) or ABSENT


def _words(value: Any) -> str:
    return value if isinstance(value, str) else str(value)
