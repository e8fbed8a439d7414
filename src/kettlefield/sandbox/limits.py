"""Limits set from outside before a run starts: the gate it waits at, and a control group for its memory.

Setting limits by a command in front of the program costs a start of its own, longer than all the rest of
our work on a run; and a process can only be put into a control group before it has children.

Looking at the processes from outside catches a run that grows; a group catches one that grows faster than
anybody looks. Letting a process into a group costs about 8 ms (the kernel waits for all processors), half a run.
In the older hierarchy of groups a thread can be a member by itself, and what it starts is born inside: so
each grading thread has a group of its own, which it enters once. Memory of ours stays outside, since it is
counted where the main thread is.
"""

import atexit
import contextlib
import itertools
import json
import os
import resource
import threading
from pathlib import Path

from kettlefield.sandbox.isolation import bounds_of
from kettlefield.sandbox.job import Job

_ROOT = Path("/sys/fs/cgroup")
_numbers = itertools.count(1)
_own = threading.local()  # the group of each thread: the kernel too keeps membership by thread, for the whole process


class MemoryGroup:
    """One control group with a memory limit."""

    def __init__(self, folder: Path, *, unified: bool) -> None:
        self.folder = folder
        self.unified = unified
        self.holds_thread = False  # what this thread starts is a member from birth
        self._limit = folder / ("memory.max" if unified else "memory.limit_in_bytes")
        self._events = folder / ("memory.events" if unified else "memory.oom_control")
        self._peak = folder / "memory.max_usage_in_bytes"
        self._kills_before = 0

    @property
    def door(self) -> Path | None:
        """The file that takes a process id to let it in (0 is whoever writes), where one must be let in."""
        return None if self.holds_thread else self.folder / "cgroup.procs"

    def begin(self, limit_bytes: int) -> None:
        """Set the limit for the next run."""
        self._limit.write_text(str(limit_bytes))
        if not self.unified:
            self._peak.write_text("0")
        self._kills_before = self._kills()

    def peak_bytes(self) -> int | None:
        """Most memory that this run held at once, its own files included; None where it is not distinguished."""
        if self.unified:
            return None  # the unified hierarchy tells the peak of all runs together
        with contextlib.suppress(OSError, ValueError):
            return int(self._peak.read_text())
        return None

    def was_exceeded(self) -> bool:
        """Whether the kernel had to kill a process of this run for its memory."""
        return self._kills() > self._kills_before

    def remove(self) -> None:
        """Remove the group; one that still has a process stays."""
        with contextlib.suppress(OSError):
            self.folder.rmdir()

    def _kills(self) -> int:
        with contextlib.suppress(OSError, ValueError):
            for line in self._events.read_text().splitlines():
                if line.startswith("oom_kill "):
                    return int(line.split()[1])
        return 0


def take_group(limit_bytes: int) -> MemoryGroup | None:
    """The calling thread's group with a new limit, or None where none can be made; one run at a time may use it."""
    if not hasattr(_own, "group"):
        _own.group = _make()
    group: MemoryGroup | None = _own.group
    if group is not None:
        try:
            group.begin(limit_bytes)
        except OSError:
            return None
    return group


def can_bound_memory() -> bool:
    """Whether runs get a group here."""
    return take_group(2**30) is not None


def _make() -> MemoryGroup | None:
    for parent, unified in _parents():
        _sweep(parent)
        folder = parent / f"kettlefield-{os.getpid()}-{next(_numbers)}"
        try:
            folder.mkdir()
        except OSError:
            continue
        group = MemoryGroup(folder, unified=unified)
        if (folder / ("memory.max" if unified else "memory.limit_in_bytes")).exists():
            atexit.register(group.remove)
            _enter(group)
            return group
        group.remove()
    return None


def _sweep(parent: Path) -> None:
    """Remove groups that runs of ours left behind when they were killed; one in use cannot be removed."""
    for folder in parent.glob("kettlefield-*"):
        pid = folder.name.split("-")[1]
        if pid.isdigit() and not Path("/proc", pid).exists():
            with contextlib.suppress(OSError):
                folder.rmdir()


def _enter(group: MemoryGroup) -> None:
    """Make this thread a member, unless it is the main one: all our memory would be counted with it."""
    if group.unified or threading.current_thread() is threading.main_thread():
        return
    with contextlib.suppress(OSError):
        (group.folder / "tasks").write_text(str(threading.get_native_id()))
        group.holds_thread = True


def _parents() -> list[tuple[Path, bool]]:
    """Where groups of ours may be made: below our own, in the separate memory hierarchy or the unified one."""
    folders = []
    with contextlib.suppress(OSError):
        for line in Path("/proc/self/cgroup").read_text().splitlines():
            number, controllers, path = line.split(":", 2)
            if "memory" in controllers.split(","):
                folders.append((_ROOT / "memory" / path.lstrip("/"), False))
            elif number == "0" and controllers == "":
                folders += [(base / path.lstrip("/"), True) for base in (_ROOT, _ROOT / "unified")]
    return [(folder, unified) for folder, unified in folders if folder.is_dir()]


_RESOURCES = {
    "cpu": resource.RLIMIT_CPU,
    "fsize": resource.RLIMIT_FSIZE,
    "nofile": resource.RLIMIT_NOFILE,
    "core": resource.RLIMIT_CORE,
    "as": resource.RLIMIT_AS,
    "nproc": resource.RLIMIT_NPROC,
}


class Gate:
    """Two pipes to an isolation: it tells the program's process id on one and waits on the other."""

    def __init__(self) -> None:
        waits, self._go = os.pipe()
        self._told, tells = os.pipe()
        self.theirs = (waits, tells)

    def open(self, job: Job, group: MemoryGroup | None) -> int | None:
        """Set a job's limits on the process behind the gate and let it go; its process id.

        An isolation that failed before it got that far tells nothing (None); it ends by itself.
        """
        pid = None
        for descriptor in self.theirs:
            os.close(descriptor)
        try:
            pid = self._read_pid()
            if pid is not None:
                for name, bound in bounds_of(job).items():
                    resource.prlimit(pid, _RESOURCES[name], bound)
                if group is not None and group.door is not None:
                    # where the group takes nobody in, looking from outside still bounds the memory
                    with contextlib.suppress(OSError):
                        group.door.write_text(str(pid))
                os.write(self._go, b"1")
        except ProcessLookupError:
            return None
        finally:
            os.close(self._go)
            os.close(self._told)
        return pid

    def abandon(self) -> None:
        """Close everything: nothing was started."""
        for descriptor in (*self.theirs, self._go, self._told):
            os.close(descriptor)

    def _read_pid(self) -> int | None:
        said = b""
        while b"}" not in said:
            chunk = os.read(self._told, 4096)
            if not chunk:
                return None
            said += chunk
        with contextlib.suppress(ValueError, KeyError):
            return int(json.loads(said)["child-pid"])
        return None
