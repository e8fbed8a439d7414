"""How long the processes of a run wait for a processor, looked at many times a second.

The kernel counts for each thread how long it was ready and not running (``run_delay``, the second figure of
``/proc/PID/task/TID/schedstat``), and for each processor what a neighbour of a virtual machine took (``steal`` in
``/proc/stat``). A program that waits for a processor is not slow: the host is busy.
"""

import contextlib
import os
import time
from collections.abc import Iterable

from kettlefield.rig.processes import TICKS_S, read_small


class ProcessorWaits:
    """Adds up how long a process tree has waited for a processor; used from one thread at a time."""

    def __init__(self) -> None:
        self.waited_s = 0.0
        self._looked_s = time.monotonic()
        self._delay_ns: dict[str, int] = {}
        self._stolen_s: list[float] = []  # read at the first look: most runs end before it

    def look(self, pids: Iterable[int]) -> None:
        """Add what was waited since the last look: by the thread that waited longest, and never more than has passed.

        Threads that wait side by side wait once. Of threads that begin and end between two looks nothing is seen.

        Parameters
        ----------
        pids : iterable of int
            The processes of the tree as they are now.
        """
        now_s = time.monotonic()
        delay_ns = {task: delay for pid in pids for task, delay in _delays_ns(pid)}
        longest_ns = max((delay - self._delay_ns.get(task, 0) for task, delay in delay_ns.items()), default=0)
        stolen_s = _stolen_s()
        taken_s = max((now - before for now, before in zip(stolen_s, self._stolen_s, strict=False)), default=0.0)
        self.waited_s += max(0.0, min(now_s - self._looked_s, longest_ns / 1e9 + taken_s))
        self._looked_s, self._delay_ns, self._stolen_s = now_s, delay_ns, stolen_s


def _delays_ns(pid: int) -> Iterable[tuple[str, int]]:
    """Each thread of a process, and how long it has waited so far; nothing where the kernel does not say."""
    with contextlib.suppress(OSError):
        for task in os.listdir(f"/proc/{pid}/task"):  # noqa: PTH208 - many times a second
            with contextlib.suppress(OSError, IndexError, ValueError):
                yield task, int(read_small(f"/proc/{pid}/task/{task}/schedstat").split()[1])


def _stolen_s() -> list[float]:
    """What neighbours took of each processor so far."""
    with contextlib.suppress(OSError, IndexError, ValueError):
        lines = read_small("/proc/stat").split(b"\n")[1:]
        return [int(line.split()[8]) / TICKS_S for line in lines if line.startswith(b"cpu")]
    return []
