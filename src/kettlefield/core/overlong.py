"""Does a server say that a prompt is longer than its context? Only its words tell: there is no status for it."""

import re

_WORDS = re.compile(
    r"context[ _-]*(?:length|size|window|limit)|(?:exceed|larger|longer|more|greater)\w*[^.]{0,60}\bcontext\b"
    r"|\bcontext\b[^.]{0,40}\b(?:exceed|full|overflow|too (?:small|short))"
    r"|(?:prompt|input|request|sequence)s?\b[^.]{0,30}\btoo (?:long|large|many tokens)"
    r"|too many (?:prompt |input )?tokens"
    r"|max(?:imum)?[ _]*(?:model[ _]*len|(?:input|prompt|sequence|context|position)[^.]{0,30}(?:length|tokens|len))"
    r"|\bn_ctx\b|\btoken limit\b",
    re.IGNORECASE,
)
LOOKED_AT_CHARS = 2000


def says_over_context(words: str) -> bool:
    """Whether a server's error words are about a prompt that does not fit."""
    return _WORDS.search(words[:LOOKED_AT_CHARS]) is not None
