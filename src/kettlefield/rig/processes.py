"""Process trees as the kernel tells them: who is below whom, and what memory each holds."""

import contextlib
import os
from pathlib import Path

_PAGE_BYTES = os.sysconf("SC_PAGE_SIZE")


def process_tree(pid: int) -> list[int]:
    """A process and all below it, parents first; empty when it is gone."""
    if not Path(f"/proc/{pid}").exists():
        return []
    found = [pid]
    for parent in found:
        with contextlib.suppress(OSError):
            for task in Path(f"/proc/{parent}/task").iterdir():
                found += map(int, (task / "children").read_text().split())
    return found


def resident_bytes(pid: int) -> int:
    """Resident memory, shared pages in full; 0 when it is gone. Cheap."""
    with contextlib.suppress(OSError, IndexError, ValueError):
        return int(Path(f"/proc/{pid}/statm").read_text().split()[1]) * _PAGE_BYTES
    return 0


def proportional_bytes(pid: int) -> int:
    """Resident memory with shared pages divided among their users (PSS); resident size where it is not told."""
    with contextlib.suppress(OSError, ValueError, IndexError):
        for line in Path(f"/proc/{pid}/smaps_rollup").read_text().splitlines():
            if line.startswith("Pss:"):
                return int(line.split()[1]) * 1024
    return resident_bytes(pid)
