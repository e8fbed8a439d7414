"""Plain JSON data and text compared: do two values agree, does a pattern match, what differs between two states?"""

import math
from collections.abc import Mapping
from typing import Any

import msgspec
import regex

MATCH_TIMEOUT_S = 2.0  # an honest pattern takes microseconds; a hostile text may make one explode
MAX_CHARS = 200_000  # of the text that is looked at


def pattern_fault(pattern: str) -> str | None:
    """Why a pattern cannot be used, or None."""
    try:
        regex.compile(pattern)
    except regex.error as err:
        return str(err)
    return None


def matches_whole(pattern: str, text: str) -> bool:
    """Whether a pattern describes the whole text but for line ends at its end; not when that takes too long."""
    try:
        return regex.fullmatch(pattern, text[:MAX_CHARS].rstrip("\n"), timeout=MATCH_TIMEOUT_S) is not None
    except TimeoutError:
        return False


def occurs(pattern: str, text: str) -> bool:
    """Whether a pattern occurs in a text, whatever the case."""
    try:
        return regex.search(pattern, text[:MAX_CHARS], regex.IGNORECASE, timeout=MATCH_TIMEOUT_S) is not None
    except TimeoutError:
        return False


MAX_DEPTH = 200  # deeper than any exercise; keeps hostile nesting from exhausting the stack


class Likeness(msgspec.Struct, frozen=True, kw_only=True):
    """What counts as the same value."""

    tolerance: float | None = None  # of two numbers, absolute or relative to the expected, whichever is larger
    whole_stays_whole: bool = False  # where a whole number is expected, 5.0 is not 5
    key_order: bool = False  # objects agree only with their keys in the same order


EXACT = Likeness()


def values_agree(value: Any, expected: Any, like: Likeness = EXACT, *, depth: int = 0) -> bool:
    """Whether a found JSON value is the expected one.

    Numbers agree by value (1 and 1.0 do, unless ``like`` says otherwise), truth values only with truth values,
    objects by their keys, whatever their order unless ``like`` says otherwise.

    Parameters
    ----------
    value, expected : JSON value
        As decoded by a JSON parser.
    like : Likeness
        What counts as the same.
    depth : int
        Nesting so far; beyond ``MAX_DEPTH`` nothing agrees.
    """
    if depth > MAX_DEPTH:
        return False
    if isinstance(expected, bool) or isinstance(value, bool) or expected is None or value is None:
        return type(value) is type(expected) and bool(value == expected)
    if isinstance(expected, int | float) and isinstance(value, int | float):
        is_other_type = like.whole_stays_whole and isinstance(expected, int) and isinstance(value, float)
        return not is_other_type and _numbers_agree(value, expected, like.tolerance)
    if isinstance(expected, list) and isinstance(value, list):
        return len(value) == len(expected) and all(
            values_agree(f, e, like, depth=depth + 1) for f, e in zip(value, expected, strict=True)
        )
    if isinstance(expected, dict) and isinstance(value, dict):
        same_keys = list(value) == list(expected) if like.key_order else value.keys() == expected.keys()
        return same_keys and all(values_agree(value[key], expected[key], like, depth=depth + 1) for key in expected)
    return type(value) is type(expected) and bool(value == expected)


def _numbers_agree(value: float, expected: float, tolerance: float | None) -> bool:
    if tolerance is None:
        return value == expected
    if isinstance(value, float) and math.isnan(value):
        return False
    try:
        return abs(value - expected) <= max(tolerance, tolerance * abs(expected))
    except OverflowError:  # a whole number beyond what a float holds
        return value == expected


def same_items(value: Any, expected: Any, like: Likeness = EXACT) -> bool:
    """Whether two lists hold the same items, however they are ordered.

    Each expected item is matched with the first found one that agrees and is still free; with a tolerance
    so wide that an item could match several, that may miss a pairing that exists.
    """
    if not isinstance(value, list) or not isinstance(expected, list) or len(value) != len(expected):
        return False
    free = list(value)
    for item in expected:
        at = next((i for i, other in enumerate(free) if values_agree(other, item, like)), None)
        if at is None:
            return False
        del free[at]
    return True


def compare_values(value: Any, expected: Any, like: Likeness = EXACT, *, how: str = "equal") -> bool:
    """Compare in one of the named ways.

    Parameters
    ----------
    value, expected : JSON value
        As decoded by a JSON parser.
    like : Likeness
        What counts as the same; "within" and "pattern" do not ask.
    how : str
        "equal"; "any-order": lists of the same items; "one-of": ``expected`` lists what is accepted;
        "within": ``expected`` is [low, high], both included; "pattern": ``expected`` is a regular expression
        for a whole text.

    Raises
    ------
    ValueError
        There is no such way.
    """
    if how == "equal":
        return values_agree(value, expected, like)
    if how == "any-order":
        return same_items(value, expected, like)
    if how == "one-of":
        return any(values_agree(value, item, like) for item in expected)
    if how == "within":
        low, high = expected
        return isinstance(value, int | float) and not isinstance(value, bool) and bool(low <= value <= high)
    if how == "pattern":
        return isinstance(value, str) and matches_whole(str(expected), value)
    raise ValueError(f"how={how!r}: wanted equal, any-order, one-of, within or pattern")


def words_agree(text: str, expected: str, *, tolerance: float) -> bool:
    """Whether two texts hold the same words, those that are numbers within a tolerance; white space is folded."""
    pairs = list(zip(text.split(), expected.split(), strict=False))
    if len(text.split()) != len(expected.split()):
        return False
    return all(a == b or _close_words(a, b, tolerance) for a, b in pairs)


def _close_words(text: str, expected: str, tolerance: float) -> bool:
    try:
        return _numbers_agree(float(text), float(expected), tolerance)
    except ValueError:
        return False


ABSENT = "not there"


class Change(msgspec.Struct, frozen=True, kw_only=True):
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
    changes: list[Change] = []
    for key in dict.fromkeys([*then, *now]):
        inner = f"{path} {key}".strip()
        changes += changes_between(then.get(key, ABSENT), now.get(key, ABSENT), path=inner)
    return tuple(changes)


def _items(items: list[Any]) -> str:
    return " ".join(map(_words, items)) or ABSENT


def _words(value: Any) -> str:
    return value if isinstance(value, str) else str(value)
