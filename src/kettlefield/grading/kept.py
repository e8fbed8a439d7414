"""What is worth keeping while a campaign is graded: the same answer comes again and again."""

import threading
from collections import OrderedDict
from collections.abc import Hashable

MOST_KEPT = 48  # builds and visits of pages together; each is a few MiB at most


class Kept:
    """A bounded store that several grading threads share; what was put in first leaves first."""

    def __init__(self, most: int = MOST_KEPT) -> None:
        self._most, self._lock = most, threading.Lock()
        self._held: OrderedDict[Hashable, object] = OrderedDict()

    def get(self, key: Hashable) -> object | None:
        """What was put in under a key; None without it."""
        with self._lock:
            return self._held.get(key)

    def put(self, key: Hashable, value: object) -> None:
        """Keep a value, and let go of the oldest where there are too many."""
        with self._lock:
            self._held[key] = value
            while len(self._held) > self._most:
                self._held.popitem(last=False)
