"""What a page showed, held against what was expected of it: pure, and outside of where the page ran."""

import re
from dataclasses import dataclass
from typing import Any

from kettlefield.core.patterns import occurs

_COLOUR = re.compile(r"rgba?\(\s*([\d.]+)[,\s]+([\d.]+)[,\s]+([\d.]+)(?:[,/\s]+([\d.]+%?))?\s*\)")
NEAR_COLOUR = 24  # of 255, in each channel: what smoothing and colour management move a drawn colour by


@dataclass(frozen=True, slots=True, kw_only=True)
class Wish:
    """What a quantity must be; everything that is given must hold."""

    equals: Any = None
    holds: str | None = None  # a part of the text
    lacks: str | None = None
    pattern: str | None = None  # somewhere in the text; small and capital letters alike
    at_least: float | None = None
    at_most: float | None = None


def shortfall(found: Any, wish: Wish) -> str:
    """How what was found fails a wish, in words that say what was wanted; empty when it does not.

    Texts compare with white space folded, numbers by value, colours by their channels whatever form they
    are written in.
    """
    faults = []
    if wish.equals is not None and not _same(found, wish.equals):
        faults.append(f"wanted {wish.equals!r}")
    text = " ".join(found) if isinstance(found, list) else "" if found is None else str(found)
    if wish.holds is not None and wish.holds not in text:
        faults.append(f"wanted one that holds {wish.holds!r}")
    if wish.lacks is not None and wish.lacks in text:
        faults.append(f"wanted one without {wish.lacks!r}")
    if wish.pattern is not None and not occurs(wish.pattern, text):
        faults.append(f"wanted one like {wish.pattern!r}")
    number = _number(found)
    if wish.at_least is not None and (number is None or number < wish.at_least):
        faults.append(f"wanted at least {wish.at_least:g}")
    if wish.at_most is not None and (number is None or number > wish.at_most):
        faults.append(f"wanted at most {wish.at_most:g}")
    return ", ".join(faults)


def _same(found: Any, wanted: Any) -> bool:
    if isinstance(found, list) and isinstance(wanted, list):
        return len(found) == len(wanted) and all(map(_same, found, wanted))
    if isinstance(wanted, bool) or isinstance(found, bool):
        return found is wanted
    if isinstance(wanted, int | float):
        number = _number(found)
        return number is not None and number == wanted
    if isinstance(wanted, str) and isinstance(found, str):
        one, other = read_colour(found), read_colour(wanted)
        return one == other if one is not None and other is not None else found.split() == wanted.split()
    return bool(found == wanted)


def _number(found: Any) -> float | None:
    if isinstance(found, bool):
        return None
    try:
        return float(str(found).strip().removesuffix("px"))
    except ValueError:
        return None


def read_colour(text: str) -> tuple[float, float, float, float] | None:
    """Red, green, blue (0 to 255) and opacity (0 to 1) of ``#rrggbb`` or ``rgb(...)``; None for anything else."""
    plain = text.strip().lower()
    if re.fullmatch(r"#[0-9a-f]{6}", plain):
        red, green, blue = (int(plain[at : at + 2], 16) for at in (1, 3, 5))
        return float(red), float(green), float(blue), 1.0
    parts = _COLOUR.fullmatch(plain)
    if parts is None:
        return None
    opacity = parts[4] or "1"
    share = float(opacity[:-1]) / 100 if opacity.endswith("%") else float(opacity)
    return float(parts[1]), float(parts[2]), float(parts[3]), share
