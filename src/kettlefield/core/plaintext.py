"""Text that others wrote, made safe to show: no control character reaches a terminal."""

import unicodedata

# bidirectional controls can make a line read differently from what it is (Unicode TR 36)
_BIDI_CONTROLS = frozenset("\u061c\u200e\u200f\u202a\u202b\u202c\u202d\u202e\u2066\u2067\u2068\u2069")


def visible(text: str, *, keep_lines: bool = True) -> str:
    r"""The text with control, format and surrogate characters shown as ``\\xNN`` or ``\\uNNNN``.

    Parameters
    ----------
    text : str
        Anything: a model's reply, a server's log, a file name.
    keep_lines : bool
        Leave line feeds and tabs as they are; otherwise they are shown escaped as well.
    """
    return "".join(_shown(ch, keep_lines) for ch in text)


def _shown(ch: str, keep_lines: bool) -> str:
    if ch in "\n\t":
        return ch if keep_lines else {"\n": "\\n", "\t": "\\t"}[ch]
    if ch in _BIDI_CONTROLS or unicodedata.category(ch) in {"Cc", "Cs"}:
        code = ord(ch)
        return f"\\x{code:02x}" if code < 0x100 else f"\\u{code:04x}"
    return ch


def shorten(text: str, limit: int) -> str:
    """At most ``limit`` characters of text, with the number left out stated where it was cut."""
    if len(text) <= limit:
        return text
    return f"{text[:limit]} ... ({len(text) - limit:,} more characters)"


def last_lines(text: str, count: int) -> str:
    """The last ``count`` lines that are not blank."""
    return "\n".join([line for line in text.splitlines() if line.strip()][-count:])
