"""How fast memory and disks really are, measured; stated as measured wherever it is used."""

import contextlib
import os
import threading
import time
from pathlib import Path

import numpy as np

from kettlefield.core.errors import RigError
from kettlefield.rig.host import recall, remember
from kettlefield.rig.survey import own_fingerprint

BLOCK_BYTES = 64 * 2**20  # far beyond any cache of a core
MEASURE_S = 0.8
DISK_READ_BYTES = 256 * 2**20


def memory_bandwidth(key: str, *, fresh: bool = False) -> float:
    """Bytes a second that all cores together read and write while they copy, the best of several rounds.

    Takes about a second; remembered under ``key``, the rig's fingerprint.

    Source
    ------
    The copy kernel of McCalpin (1995), IEEE TCCA Newsletter: bytes read plus bytes written over time.
    """
    known = recall("bandwidth", key)
    if isinstance(known, float) and known > 0 and not fresh:
        return known
    found = _measure()
    remember("bandwidth", key, found)
    return found


def own_bandwidth() -> float:
    """Memory bandwidth of this host, in bytes a second; about a second's work, once on a rig."""
    return memory_bandwidth(own_fingerprint())


def disk_read_rate(folder: Path) -> float:
    """Bytes a second read from a folder's disk, with the page cache dropped for what is read.

    Raises
    ------
    RigError
        The folder cannot be written to, or has no room.
    """
    path = folder / f".kettlefield-{os.getpid()}"
    try:
        with path.open("wb") as file:
            block = os.urandom(2**20)
            for _ in range(DISK_READ_BYTES // len(block)):
                file.write(block)
            file.flush()
            os.fsync(file.fileno())
        with path.open("rb", buffering=0) as file:
            os.posix_fadvise(file.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
            began = time.perf_counter()
            while file.read(2**22):
                pass
            return DISK_READ_BYTES / (time.perf_counter() - began)
    except OSError as err:
        raise RigError(f"cannot be measured ({err.strerror})", str(folder), "Name one with 256 MiB of room.") from err
    finally:
        with contextlib.suppress(OSError):
            path.unlink()


def _measure() -> float:
    workers = os.cpu_count() or 1
    pairs = [(np.ones(BLOCK_BYTES, dtype=np.uint8), np.empty(BLOCK_BYTES, dtype=np.uint8)) for _ in range(workers)]
    for source, target in pairs:
        np.copyto(target, source)  # pages are there before the clock runs
    best, deadline_s = 0.0, time.perf_counter() + MEASURE_S
    while time.perf_counter() < deadline_s:
        best = max(best, _round(pairs))
    return best


def _round(pairs: list[tuple[np.ndarray, np.ndarray]]) -> float:
    threads = [threading.Thread(target=np.copyto, args=(target, source)) for source, target in pairs]
    began = time.perf_counter()
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    return 2 * BLOCK_BYTES * len(pairs) / (time.perf_counter() - began)
