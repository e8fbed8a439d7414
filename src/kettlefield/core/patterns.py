"""Regular expressions over text that others wrote: bounded in size and time, and never an error of ours."""

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
    """Whether a pattern occurs in a text, small and capital letters alike."""
    try:
        return regex.search(pattern, text[:MAX_CHARS], regex.IGNORECASE, timeout=MATCH_TIMEOUT_S) is not None
    except TimeoutError:
        return False
