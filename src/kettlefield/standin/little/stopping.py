"""Stop words: a reply ends before the first of them, even where it comes in several tokens."""

from collections.abc import Sequence


class StopWords:
    """Lets a reply's text through as soon as it can be no part of a stop word."""

    def __init__(self, words: Sequence[str]) -> None:
        self._words = [word for word in words if word]
        self._held = ""

    def add(self, text: str) -> tuple[str, bool]:
        """What may be sent now that this text was written, and whether a stop word ended the reply."""
        self._held += text
        found = [self._held.index(word) for word in self._words if word in self._held]
        if found:
            sent, self._held = self._held[: min(found)], ""
            return sent, True
        keep = max((self._beginning(word) for word in self._words), default=0)
        cut = len(self._held) - keep
        sent, self._held = self._held[:cut], self._held[cut:]
        return sent, False

    def rest(self) -> str:
        """What was held back when the reply ended without a stop word."""
        sent, self._held = self._held, ""
        return sent

    def _beginning(self, word: str) -> int:
        """How many of the last characters could begin a stop word."""
        return next((n for n in range(min(len(word) - 1, len(self._held)), 0, -1) if self._held.endswith(word[:n])), 0)
