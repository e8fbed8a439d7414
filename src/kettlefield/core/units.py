"""Sizes and durations: strings with units in, base units (bytes, seconds) inside, readable text out."""

import math
import re
from enum import StrEnum

import msgspec


class Unit(StrEnum):
    """What a measure is counted in."""

    RATIO = "ratio"  # 0 to 1
    SECONDS = "s"
    BYTES = "bytes"
    TOKENS_PER_SECOND = "tokens/s"
    REQUESTS_PER_SECOND = "requests/s"
    JOULES = "J"
    NATS = "nats"
    PERPLEXITY = "perplexity"
    COUNT = "trials"
    LICENCE = "licence"  # an SPDX expression


_SIZE_BYTES = {
    "B": 1,
    "kB": 10**3,
    "MB": 10**6,
    "GB": 10**9,
    "TB": 10**12,
    "KiB": 2**10,
    "MiB": 2**20,
    "GiB": 2**30,
    "TiB": 2**40,
}
_DURATION_S = {"us": 1e-6, "ms": 1e-3, "s": 1.0, "min": 60.0, "h": 3600.0}
_QUANTITY = re.compile(r"\s*([0-9]+(?:\.[0-9]+)?)\s*([A-Za-z]+)\s*")


class Size(int):
    """Bytes, written in a plan or exercise as text such as ``"16 GiB"``."""


class Duration(float):
    """Seconds, written in a plan or exercise as text such as ``"90 s"``."""


def parse_size(text: str) -> int:
    """Bytes from text such as ``"16 GiB"``.

    Returns
    -------
    int
        Bytes, above 0. Decimal (MB) and binary (MiB) units are distinguished, as IEC 80000-13 does.

    Raises
    ------
    ValueError
        The text is not a number with a unit of size.
    """
    return round(_parse(text, _SIZE_BYTES, 'a size such as "16 GiB"'))


def parse_duration(text: str) -> float:
    """Seconds from text such as ``"90 s"``; the units are us, ms, s, min and h.

    Raises
    ------
    ValueError
        The text is not a number with a unit of time.
    """
    return _parse(text, _DURATION_S, 'a duration such as "90 s"')


def _parse(text: str, factors: dict[str, float] | dict[str, int], example: str) -> float:
    match = _QUANTITY.fullmatch(text)
    if match is None or match[2] not in factors:
        raise ValueError(f"write {example} (units: {', '.join(factors)})")
    value = float(match[1]) * factors[match[2]]
    if not 0 < value < math.inf:
        raise ValueError(f"must be above 0; write {example}")
    return value


class Scale(msgspec.Struct, frozen=True):
    """A unit for readers: how many base units it holds, and what it is called."""

    factor: float
    label: str


def size_scale(count: float) -> Scale:
    """The binary unit that suits a number of bytes."""
    for label in ("B", "KiB", "MiB", "GiB"):
        if abs(count) < 1024 * _SIZE_BYTES[label]:
            return Scale(_SIZE_BYTES[label], label)
    return Scale(_SIZE_BYTES["TiB"], "TiB")


def duration_scale(seconds: float) -> Scale:
    """Milliseconds below a second, else seconds."""
    return Scale(1e-3, "ms") if abs(seconds) < 1 else Scale(1.0, "s")


def format_scaled(value: float, scale: Scale) -> str:
    """A value in base units as a number of the scale's unit, without the unit."""
    if scale.label == "B":
        return f"{value:.0f}"
    return three_digits(value / scale.factor)


def format_bytes(count: float | None) -> str:
    """Bytes for a reader, in binary units: ``"7.52 GiB"``; a dash for None."""
    if count is None:
        return "-"
    scale = size_scale(count)
    return f"{format_scaled(count, scale)} {scale.label}"


def format_count(number: int) -> str:
    """A large number for a reader: ``"7.25 B"``, ``"1.21 M"``."""
    for unit, size in (("B", 10**9), ("M", 10**6), ("k", 10**3)):
        if number >= size:
            return f"{number / size:.2f} {unit}"
    return str(number)


def format_duration(seconds: float | None) -> str:
    """Seconds for a reader: ``"412 ms"``, ``"3.21 s"``, ``"2 min 05 s"``; a dash for None."""
    if seconds is None:
        return "-"
    if abs(seconds) < 100:
        scale = duration_scale(seconds)
        return f"{format_scaled(seconds, scale)} {scale.label}"
    minutes, rest = divmod(round(seconds), 60)
    if minutes < 60:
        return f"{minutes} min {rest:02d} s"
    return f"{minutes // 60} h {minutes % 60:02d} min"


def three_digits(value: float) -> str:
    """Three significant digits, thousands in full, never in exponent form."""
    if value == 0:
        return "0"
    decimals = max(0, 2 - math.floor(math.log10(abs(value))))
    return f"{value:,.{decimals}f}"
