"""What a reply is when it is no program: repeating itself, or a refusal. Small rules, documented, testable."""

import re
import zlib

TAIL_CHARS = 2000  # looked at for repetition
MIN_CHARS = 400  # a shorter reply cannot be said to loop
LOOP_RATIO = 0.07  # compressed over plain size; the densest real code that we have seen stays above 0.15
REPEATS = 6  # a block of lines that stands so often at the end is a loop, however long its lines are

# the opening of a refusal; asked for only where the reply holds no program
_REFUSAL = re.compile(
    r"\b(?:i(?:'m|\u2019m| am) (?:sorry|unable|not able|afraid)"
    r"|i (?:can(?:'|\u2019)?t|cannot|can not|won(?:'|\u2019)t|will not)"
    r" (?:help|assist|provide|write|do|create|produce|comply|share)|as an ai\b|against my (?:guidelines|policy))",
    re.IGNORECASE,
)
REFUSAL_WITHIN_CHARS = 400


def is_looping(text: str) -> bool:
    """Whether a reply that was stopped by its cap repeats itself at its end.

    The last ``TAIL_CHARS`` characters compress to under ``LOOP_RATIO`` of their size, or a block of lines
    stands ``REPEATS`` times in a row at the end (the last line may be cut).
    """
    tail = text[-TAIL_CHARS:]
    if len(tail) < MIN_CHARS:
        return False
    raw = tail.encode("utf-8", errors="surrogatepass")
    if len(zlib.compress(raw, 9)) < LOOP_RATIO * len(raw):
        return True
    lines = [line.strip() for line in text.rsplit("\n", 400)[-400:]][:-1]
    return any(_repeats(lines, size) for size in range(1, len(lines) // REPEATS + 1))


def is_refusal(text: str) -> bool:
    """Whether a reply without a program declines: one of a few phrases near its beginning."""
    return _REFUSAL.search(text[:REFUSAL_WITHIN_CHARS]) is not None


def _repeats(lines: list[str], size: int) -> bool:
    block = lines[-size:]
    if not any(block):
        return False
    return all(lines[-size * (k + 1) : len(lines) - size * k] == block for k in range(1, REPEATS))
