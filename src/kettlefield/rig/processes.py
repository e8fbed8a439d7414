"""Process trees: who is below whom, what memory each holds, and a tree watched many times a second.

The proportional share (PSS) of a process takes the kernel a walk over its page tables; its resident size is one
small file. So each look reads every resident size, and the proportional share of a few processes in turn; for
the others the share that was last read is scaled by how their resident size has changed since.
"""

import contextlib
import os
import time
from pathlib import Path

import msgspec

_PAGE_BYTES = os.sysconf("SC_PAGE_SIZE")


def process_tree(pid: int) -> list[int]:
    """A process and all below it, parents first; empty when it is gone."""
    if not os.path.exists(f"/proc/{pid}"):  # noqa: PTH110 - many times a second, of a browser's hundred threads
        return []
    pids = [pid]
    for parent in pids:
        with contextlib.suppress(OSError):
            for task in os.listdir(f"/proc/{parent}/task"):  # noqa: PTH208
                pids += map(int, read_small(f"/proc/{parent}/task/{task}/children").split())
    return pids


def resident_bytes(pid: int) -> int:
    """Resident memory, shared pages in full; 0 when it is gone. Cheap."""
    with contextlib.suppress(OSError, IndexError, ValueError):
        return int(read_small(f"/proc/{pid}/statm").split()[1]) * _PAGE_BYTES
    return 0


def read_small(path: str) -> bytes:
    """A small file of the kernel's, in one call.

    Raises
    ------
    OSError
        It cannot be read.
    """
    file = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    try:
        return os.read(file, 65536)
    finally:
        os.close(file)


def proportional_bytes(pid: int) -> int:
    """Resident memory with shared pages divided among their users (PSS); resident size where it is not known."""
    with contextlib.suppress(OSError, ValueError, IndexError):
        for line in Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines():
            if line.startswith("Pss:"):
                return int(line.split()[1]) * 1024
    return resident_bytes(pid)


PAGE_BYTES = os.sysconf("SC_PAGE_SIZE")
TICKS_S = os.sysconf("SC_CLK_TCK")
RESCAN_EVERY_S = 1.0  # for processes that came or went
RESCAN_COST = 400  # times what a scan takes lie between two at the least
SHARES_A_LOOK = 1
MANY = 16  # members: of more than these each look reads every other one's size
_LOOK_BYTES = 512


class TreeMemory(msgspec.Struct, frozen=True, kw_only=True):
    """Memory of all processes of a tree."""

    host_bytes: int  # proportional share
    mapped_bytes: int  # of it: pages of files that are mapped, such as weights; the page cache holds them


class _Member:
    """One process with its open files."""

    def __init__(self, pid: int) -> None:
        self.pid = pid
        self._statm = os.open(f"/proc/{pid}/statm", os.O_RDONLY)
        self._stat = -1
        self._rollup = -1
        with contextlib.suppress(OSError):
            self._stat = os.open(f"/proc/{pid}/stat", os.O_RDONLY)
            self._rollup = os.open(f"/proc/{pid}/smaps_rollup", os.O_RDONLY)
        self.resident = 0
        self.share, self.mapped_share = 1.0, 0.0  # of the resident size

    def look(self) -> None:
        """Its resident size now, shared pages in full."""
        self.resident = int(os.pread(self._statm, _LOOK_BYTES, 0).split(b" ", 2)[1]) * PAGE_BYTES

    def read_shares(self) -> None:
        """The proportional share as the kernel tells it now; where it does not, the resident size stands."""
        if self._rollup < 0:
            return
        shares = {}
        with contextlib.suppress(OSError):
            for line in os.pread(self._rollup, 4096, 0).splitlines():
                name, _, value = line.partition(b":")
                if name in {b"Rss", b"Pss", b"Pss_File"}:
                    shares[name] = int(value.split()[0])
        resident = shares.get(b"Rss", 0)
        if resident:
            self.share = shares.get(b"Pss", resident) / resident
            self.mapped_share = shares.get(b"Pss_File", 0) / resident

    def cpu_s(self) -> float:
        if self._stat < 0:
            return 0.0
        fields = os.pread(self._stat, _LOOK_BYTES, 0).rpartition(b")")[2].split()
        return (int(fields[11]) + int(fields[12])) / TICKS_S

    def close(self) -> None:
        for handle in (self._statm, self._stat, self._rollup):
            if handle >= 0:
                os.close(handle)


class TreeWatch:
    """Watches one process and all below it; used from one thread at a time."""

    def __init__(self, pid: int) -> None:
        self._root = pid
        self._members: dict[int, _Member] = {}
        self._scan_at_s = float("-inf")
        self._even = False
        self._turn = 0
        self._gone_cpu_s = 0.0
        self._cpu_s: dict[int, float] = {}

    @property
    def pids(self) -> tuple[int, ...]:
        """The processes that were there at the last look."""
        return tuple(self._members)

    def memory(self, *, exact: bool = False) -> TreeMemory | None:
        """Memory now; exact reads every proportional share. None when the tree is gone."""
        self._scan(now=exact)
        members = list(self._members.values())
        if exact or len(members) <= SHARES_A_LOOK:
            turn = members
        elif len(members) > MANY and self._even:
            turn = []
        else:
            turn = [members[(self._turn + n) % len(members)] for n in range(SHARES_A_LOOK)]
            self._turn += SHARES_A_LOOK
        for member in turn:
            member.read_shares()
        host = mapped = 0.0
        self._even = not self._even
        for number, member in enumerate(members):
            if exact or len(members) <= MANY or number % 2 == self._even:
                try:
                    member.look()
                except (OSError, IndexError):
                    self._drop(member.pid)
                    continue
            host += member.resident * member.share
            mapped += member.resident * member.mapped_share
        if not self._members:
            return None
        return TreeMemory(host_bytes=round(host), mapped_bytes=round(mapped))

    def cpu_s(self) -> float:
        """Processor time of the tree so far, in seconds; what ended processes used since the last look is lost."""
        for pid, member in list(self._members.items()):
            with contextlib.suppress(OSError, IndexError, ValueError):
                self._cpu_s[pid] = member.cpu_s()
        return self._gone_cpu_s + sum(self._cpu_s.values())

    def close(self) -> None:
        """Let go of the files."""
        for pid in list(self._members):
            self._drop(pid)

    def _scan(self, *, now: bool) -> None:
        if not now and time.monotonic() < self._scan_at_s:
            return
        before_s = time.thread_time()  # not wall time: a busy host must not make the scans rare
        pids = process_tree(self._root)
        for pid in set(self._members) - set(pids):
            self._drop(pid)
        for pid in pids:
            if pid not in self._members:
                with contextlib.suppress(OSError):
                    self._members[pid] = _Member(pid)
                    self._members[pid].look()
                    self._members[pid].read_shares()
        cost_s = time.thread_time() - before_s
        self._scan_at_s = time.monotonic() + max(RESCAN_EVERY_S, RESCAN_COST * cost_s)

    def _drop(self, pid: int) -> None:
        self._members.pop(pid).close()
        self._gone_cpu_s += self._cpu_s.pop(pid, 0.0)
