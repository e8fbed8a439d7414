"""What a page showed, compared with what an exercise expects of it, and the rules of an accessible page.

They are a floor, not an audit: language and title, names of controls and pictures, contrast of text,
reach by the keyboard, no sideways scrolling.
"""

import re
from collections.abc import Iterable, Mapping
from typing import Any

import msgspec

from kettlefield.core.plaintext import shorten
from kettlefield.core.values import occurs

_COLOUR = re.compile(r"rgba?\(\s*([\d.]+)[,\s]+([\d.]+)[,\s]+([\d.]+)(?:[,/\s]+([\d.]+%?))?\s*\)")
NEAR_COLOUR = 24  # of 255, in each channel: what smoothing and colour management move a drawn colour by


class Wish(msgspec.Struct, frozen=True, kw_only=True):
    """What a quantity must be; everything that is given must hold."""

    equals: Any = None
    holds: str | None = None  # a part of the text
    lacks: str | None = None
    pattern: str | None = None  # somewhere in the text; whatever the case
    at_least: float | None = None
    at_most: float | None = None


def shortfall(seen: Any, wish: Wish) -> str:
    """How what was found fails a wish, in words that say what was wanted; empty when it does not.

    Texts compare with white space folded, numbers by value, colours by their channels whatever form they
    are written in.
    """
    faults = []
    if wish.equals is not None and not _same(seen, wish.equals):
        faults.append(f"wanted {wish.equals!r}")
    text = " ".join(seen) if isinstance(seen, list) else "" if seen is None else str(seen)
    if wish.holds is not None and wish.holds not in text:
        faults.append(f"wanted one that holds {wish.holds!r}")
    if wish.lacks is not None and wish.lacks in text:
        faults.append(f"wanted one without {wish.lacks!r}")
    if wish.pattern is not None and not occurs(wish.pattern, text):
        faults.append(f"wanted one like {wish.pattern!r}")
    number = _number(seen)
    if wish.at_least is not None and (number is None or number < wish.at_least):
        faults.append(f"wanted at least {wish.at_least:g}")
    if wish.at_most is not None and (number is None or number > wish.at_most):
        faults.append(f"wanted at most {wish.at_most:g}")
    return ", ".join(faults)


def _same(seen: Any, wanted: Any) -> bool:
    if isinstance(seen, list) and isinstance(wanted, list):
        return len(seen) == len(wanted) and all(map(_same, seen, wanted))
    if isinstance(wanted, bool) or isinstance(seen, bool):
        return seen is wanted
    if isinstance(wanted, int | float):
        number = _number(seen)
        return number is not None and number == wanted
    if isinstance(wanted, str) and isinstance(seen, str):
        one, other = read_colour(seen), read_colour(wanted)
        return one == other if one is not None and other is not None else seen.split() == wanted.split()
    return bool(seen == wanted)


def _number(seen: Any) -> float | None:
    if isinstance(seen, bool):
        return None
    try:
        return float(str(seen).strip().removesuffix("px"))
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


RULES = ("language", "names", "contrast", "keyboard", "fits")
LARGE_PX, LARGE_BOLD_PX, BOLD = 24.0, 18.66, 700  # WCAG 2.2: 18 pt, or 14 pt and bold
CONTRAST, CONTRAST_LARGE = 4.5, 3.0  # WCAG 2.2, success criterion 1.4.3
_SLACK = 0.01  # of a ratio, for rounding
SHOWN = 3  # faults of one rule that are named; the rest is counted


def contrast_ratio(one: tuple[float, float, float], other: tuple[float, float, float]) -> float:
    """Comparison of two colours of channels 0 to 255, from 1 (the same) to 21 (black on white).

    Source
    ------
    WCAG 2.2, "contrast ratio" and "relative luminance".
    """
    lighter, darker = sorted((_luminance(one), _luminance(other)), reverse=True)
    return (lighter + 0.05) / (darker + 0.05)


def _luminance(colour: tuple[float, float, float]) -> float:
    red, green, blue = (
        share / 12.92 if share <= 0.04045 else ((share + 0.055) / 1.055) ** 2.4
        for share in (channel / 255 for channel in colour)
    )
    return 0.2126 * red + 0.7152 * green + 0.0722 * blue


def blended(layers: Iterable[str]) -> tuple[float, float, float]:
    """The colour that layers of backgrounds give, the nearest first, on a white page."""
    shown = (255.0, 255.0, 255.0)
    for layer in reversed(list(layers)):
        colour = read_colour(layer)
        if colour is not None:
            shown = _over(colour, shown)
    return shown


def _over(colour: tuple[float, float, float, float], behind: tuple[float, float, float]) -> tuple[float, float, float]:
    share = colour[3]
    red, green, blue = (share * top + (1 - share) * below for top, below in zip(colour[:3], behind, strict=True))
    return red, green, blue


def rule_faults(inventory: Mapping[str, Any], reached: Iterable[int] | None) -> dict[str, list[str]]:
    """What breaks each rule, in words; a rule that holds has an empty list.

    Parameters
    ----------
    inventory : mapping
        As the browser's side tells it: language, title, controls, texts, unnamed_images, widths in px.
    reached : iterable of int, optional
        Controls that the tabulator key came to, by place; None: it was not tried, and no rule is broken by it.
    """
    controls = list(inventory.get("controls", []))
    wide, view = float(inventory.get("scroll_width_px", 0)), float(inventory.get("view_width_px", 0))
    return {
        "language": [
            *(["the page does not say its language (html lang)"] if not inventory.get("language") else []),
            *(["the page has no title"] if not inventory.get("title") else []),
        ],
        "names": _named(
            [f"{c['is']!r} has no name" for c in controls if not c["name"]]
            + [f"picture {image!r} has no text in its place" for image in inventory.get("unnamed_images", [])]
        ),
        "contrast": _named([fault for text in inventory.get("texts", []) if (fault := _contrast_fault(text))]),
        "keyboard": _named(_unreached(controls, set(reached))) if reached is not None else [],
        "fits": [f"it is {wide:.0f} px wide in a view of {view:.0f} px"] if wide > view + 1 else [],
    }


def _contrast_fault(text: Mapping[str, Any]) -> str:
    colour = read_colour(str(text["colour"]))
    if colour is None:
        return ""
    behind = blended(map(str, text["behind"]))
    ratio = contrast_ratio(_over(colour, behind), behind)
    size, weight = float(text["size_px"]), float(text["weight"])
    large = size >= LARGE_PX or (size >= LARGE_BOLD_PX and weight >= BOLD)
    wanted = CONTRAST_LARGE if large else CONTRAST
    return (
        f"{shorten(str(text['text']), 40)!r} has contrast {ratio:.1f}, wanted {wanted:g}"
        if ratio < wanted - _SLACK
        else ""
    )


def _unreached(controls: list[Mapping[str, Any]], reached: set[int]) -> list[str]:
    """Controls that the tabulator key never comes to; of a group one is enough."""
    groups = {controls[at]["group"] for at in reached if 0 <= at < len(controls)} - {""}
    return [
        f"the tabulator key never comes to {control['is']!r}"
        for at, control in enumerate(controls)
        if at not in reached and control["group"] not in groups
    ]


def _named(faults: list[str]) -> list[str]:
    more = len(faults) - SHOWN
    return [*faults[:SHOWN], f"and {more} more"] if more > 0 else faults
