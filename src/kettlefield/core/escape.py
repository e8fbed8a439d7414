"""Signs that a program reached beyond its sandbox, in what it said as it died."""

import re

# what the C library, and with it every language here, says of the refusals that isolation makes
_SIGNS = {
    "network": r"network is unreachable|temporary failure in name resolution|name or service not known|EAI_AGAIN"
    r"|ENETUNREACH|getaddrinfo|no such host",
    "files": r"read-only file system|EROFS",
    "rights": r"operation not permitted|\bEPERM\b",
}
_PATTERNS = {name: re.compile(pattern, re.IGNORECASE) for name, pattern in _SIGNS.items()}


def escape_signs(words: str) -> tuple[str, ...]:
    """What a program was refused, by its last words: "network", "files", "rights".

    A program that catches the refusal, or says nothing, leaves no sign: none found does not prove that none was
    tried. The isolation holds either way.
    """
    return tuple(name for name, pattern in _PATTERNS.items() if pattern.search(words))
