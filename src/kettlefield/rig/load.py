"""What else the host is doing: processor time of others, swapping, a processor that slows down for heat."""

import contextlib
import os
import time
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

TICKS_S = os.sysconf("SC_CLK_TCK")


@dataclass(frozen=True, slots=True, kw_only=True)
class HostLook:
    """One look at the host's counters; the difference of two tells what happened between."""

    at_s: float  # monotonic
    busy_s: float  # processor time of everybody, all cores
    own_s: float  # of it: ours and the watched server's
    swapped_pages: int
    throttles: int  # times that a core slowed down for heat


def look_at_host(own_s: float, root: Path = Path("/")) -> HostLook:
    """Read the kernel's counters.

    Parameters
    ----------
    own_s : float
        Processor time so far of the processes that may be busy.
    root : Path
        Where ``proc`` and ``sys`` lie; another one for tests.
    """
    return HostLook(
        at_s=time.perf_counter(),
        busy_s=_busy_s(root),
        own_s=own_s,
        swapped_pages=_swapped(root),
        throttles=_throttles(root),
    )


def own_cpu_s() -> float:
    """Processor time of this process so far, without its children."""
    times = os.times()
    return times.user + times.system


def others_cores(before: HostLook, after: HostLook) -> float:
    """Cores that others kept busy between two looks."""
    span = after.at_s - before.at_s
    return max(0.0, (after.busy_s - before.busy_s) - (after.own_s - before.own_s)) / span if span > 0 else 0.0


def _busy_s(root: Path) -> float:
    with contextlib.suppress(OSError, ValueError, IndexError):
        with (root / "proc/stat").open() as file:
            numbers = [int(word) for word in file.readline().split()[1:]]
        # user, nice, system, then irq, softirq, steal: what a neighbour of a virtual machine takes is busy too
        return (sum(numbers[:3]) + sum(numbers[5:8])) / TICKS_S
    return 0.0


def _swapped(root: Path) -> int:
    with contextlib.suppress(OSError, ValueError):
        lines = (root / "proc/vmstat").read_text().splitlines()
        return sum(int(line.split()[1]) for line in lines if line.startswith(("pswpin ", "pswpout ")))
    return 0


def _throttles(root: Path) -> int:
    return sum(_number(path) for path in _throttle_files(root))


def _throttle_files(root: Path) -> Iterable[Path]:
    return (root / "sys/devices/system/cpu").glob("cpu[0-9]*/thermal_throttle/*_throttle_count")


def _number(path: Path) -> int:
    with contextlib.suppress(OSError, ValueError):
        return int(path.read_text())
    return 0
