"""What is worth keeping while a campaign is graded: the same answer comes again and again."""

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import TypeVar, cast

T = TypeVar("T")
MOST_KEPT = 96  # builds and inputs of growth checks together; each is a few MiB at most


class Kept:
    """A bounded store that several grading threads share; what was put in first leaves first."""

    def __init__(self, most: int = MOST_KEPT) -> None:
        self._most, self._lock = most, threading.Lock()
        self._held: OrderedDict[Hashable, object] = OrderedDict()
        self._for_good: dict[Hashable, object] = {}
        self._making: dict[Hashable, threading.Lock] = {}

    def get(self, key: Hashable) -> object | None:
        """What was put in under a key; None without it."""
        with self._lock:
            return self._held.get(key, self._for_good.get(key))

    def put(self, key: Hashable, value: object) -> None:
        """Keep a value, and let go of the oldest where there are too many."""
        with self._lock:
            self._held[key] = value
            while len(self._held) > self._most:
                self._held.popitem(last=False)

    def keep_for_good(self, key: Hashable, value: object) -> None:
        """Keep a value that is never let go of."""
        with self._lock:
            self._for_good[key] = value

    def always(self, key: Hashable, make: Callable[[], T]) -> T:
        """The value under a key, made once and never let go of: for the few that all answers share."""
        return self._made(key, make, self.keep_for_good)

    def once(self, key: Hashable, make: Callable[[], T], *, keep: Callable[[T], bool]) -> T:
        """The value under a key, made where there is none; a thread that asks for it meanwhile waits for it.

        Parameters
        ----------
        key : hashable
            Everything that the value depends on, its type too.
        make : callable
            Makes the value; what it raises is raised here, and the next thread makes it afresh.
        keep : callable
            Whether a made value may be given again. One in which a busy rig had its part may not.
        """
        return self._made(key, make, lambda key, value: self.put(key, value) if keep(value) else None)

    def _made(self, key: Hashable, make: Callable[[], T], keep: Callable[[Hashable, T], None]) -> T:
        with self._lock:
            lock = self._making.setdefault(key, threading.Lock())
        try:
            with lock:
                known = self.get(key)
                if known is not None:
                    return cast("T", known)
                value = make()
                keep(key, value)
                return value
        finally:
            with self._lock:
                self._making.pop(key, None)
