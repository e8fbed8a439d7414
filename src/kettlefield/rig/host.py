"""The host: what it is, what else it is doing, and its page cache."""

import contextlib
import json
import os
import platform
import shutil
import subprocess
import time
from collections.abc import Iterable
from pathlib import Path

import msgspec
import psutil


class HostFacts(msgspec.Struct, frozen=True, kw_only=True):
    """What the host is; stored with every record."""

    cpu: str
    cores: int  # physical, or logical where the kernel does not tell them apart
    threads: int
    memory_bytes: int
    system: str
    kernel: str
    user_is_root: bool


def read_host() -> HostFacts:
    """The host's facts as they are now."""
    return HostFacts(
        cpu=_cpu_name(),
        cores=psutil.cpu_count(logical=False) or psutil.cpu_count() or 1,
        threads=psutil.cpu_count() or 1,
        memory_bytes=psutil.virtual_memory().total,
        system=_system_name(),
        kernel=platform.release(),
        user_is_root=os.geteuid() == 0,
    )


def _cpu_name() -> str:
    try:
        for line in Path("/proc/cpuinfo").read_text(encoding="utf-8").splitlines():
            name, _, value = line.partition(":")
            if name.strip() in {"model name", "Model"}:
                return value.strip()
    except OSError:
        pass
    return platform.processor() or platform.machine()


def _system_name() -> str:
    try:
        return platform.freedesktop_os_release()["PRETTY_NAME"]
    except (OSError, KeyError):
        return platform.system()


TICKS_S = os.sysconf("SC_CLK_TCK")


class HostLook(msgspec.Struct, frozen=True, kw_only=True):
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


def drop_pages(paths: Iterable[Path]) -> None:
    """Ask the kernel to forget the cached pages of files; what another process has mapped stays."""
    for path in paths:
        with contextlib.suppress(OSError):
            handle = os.open(path, os.O_RDONLY)
            try:
                os.fdatasync(handle)  # pages not yet written cannot be dropped
                os.posix_fadvise(handle, 0, 0, os.POSIX_FADV_DONTNEED)
            finally:
                os.close(handle)


def cached_bytes(paths: Iterable[Path]) -> int | None:
    """How much of files the page cache holds, as util-linux's fincore counts it; None where it is not installed."""
    tool = shutil.which("fincore")
    if tool is None:
        return None
    with contextlib.suppress(OSError, subprocess.SubprocessError, ValueError, KeyError):
        done = subprocess.run(
            [tool, "--json", "--bytes", *map(str, paths)], capture_output=True, check=True, timeout=60
        )
        return sum(int(entry["res"]) for entry in json.loads(done.stdout)["fincore"])
    return None
