"""Text that others wrote: made safe to show, and checked as file names."""

import re
from collections.abc import Iterable

# control characters, halves of surrogate pairs, and the bidirectional controls that can make a line read differently
# from what it is (Unicode TR 36)
_UNSEEN = re.compile(r"[\x00-\x1f\x7f-\x9f\ud800-\udfff\u061c\u200e\u200f\u202a-\u202e\u2066-\u2069]")
_ON_A_LINE = {"\n": "\\n", "\t": "\\t"}


def visible(text: str, *, keep_lines: bool = True) -> str:
    r"""The text with control, format and surrogate characters shown as ``\\xNN`` or ``\\uNNNN``.

    Parameters
    ----------
    text : str
        Anything: a model's reply, a server's log, a file name.
    keep_lines : bool
        Leave line feeds and tabs as they are; otherwise they are shown escaped as well.
    """
    return _UNSEEN.sub(lambda match: _shown(match[0], keep_lines), text)


def _shown(character: str, keep_lines: bool) -> str:
    if character in _ON_A_LINE:
        return character if keep_lines else _ON_A_LINE[character]
    code = ord(character)
    return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}"


def shorten(text: str, limit: int) -> str:
    """At most ``limit`` characters of text, with the number left out stated where it was cut."""
    if len(text) <= limit:
        return text
    return f"{text[:limit]} ... ({len(text) - limit:,} more characters)"


def listed(items: Iterable[object], *, last: str = "and") -> str:
    """Several in a sentence: "a", "a and b", "a, b and c"."""
    *others, final = [str(one) for one in items] or [""]
    return f"{', '.join(others)} {last} {final}" if others else final


def last_lines(text: str, count: int) -> str:
    """The last ``count`` lines that are not blank."""
    return "\n".join([line for line in text.splitlines() if line.strip()][-count:])


def as_sentence(text: str) -> str:
    """The text with a capital and a full stop; units inside keep their case."""
    return f"{text[:1].upper()}{text[1:]}."


MAX_NAME_CHARS = 200
MAX_DEPTH = 5  # folders; more is not a small program


def is_safe_name(name: str) -> bool:
    """Whether a file name stays inside its folder and shows as what it is.

    Relative, with plain slashes, no ``.`` or ``..``, no hidden part, no drive letter, nothing unprintable
    (a NUL among it), and not longer or deeper than any honest file of an answer.
    """
    parts = name.split("/")
    return (
        0 < len(name) <= MAX_NAME_CHARS
        and len(parts) <= MAX_DEPTH
        and not any(part == "" or part.startswith((".", "-", "~")) or part != part.strip() for part in parts)
        and not any(ch in '\\:*?"<>|' for ch in name)
        and name.isprintable()
    )


def fits_beside(name: str, others: Iterable[str]) -> bool:
    """Whether a file can lie beside others: none of them is a folder on the other's path."""
    return not any(other.startswith(f"{name}/") or name.startswith(f"{other}/") for other in others)
