"""The whole rig in one record, its fingerprint, and how fast its memory and disks really are."""

import contextlib
import hashlib
import json
import os
import threading
import time
from collections.abc import Iterable
from pathlib import Path

import msgspec
import numpy as np
import psutil

from kettlefield.core.errors import RigError
from kettlefield.languages.all_languages import LANGUAGES, find_toolchain
from kettlefield.languages.language import Missing
from kettlefield.languages.packages import find_packages
from kettlefield.rig.accelerators import AcceleratorFacts, energy_counters, find_accelerators
from kettlefield.rig.host import HostFacts, read_host
from kettlefield.rig.remembered import recall, remember

MISSING = "missing"


class RigFacts(msgspec.Struct, frozen=True, kw_only=True):
    """What this machine is."""

    host: HostFacts
    available_bytes: int  # memory that could be had just now
    accelerators: tuple[AcceleratorFacts, ...]
    toolchains: dict[str, str]  # language -> version; missing ones are left out
    missing: dict[str, str]  # language -> the line that installs it
    energy_counters: tuple[str, ...]
    fingerprint: str


def survey_rig() -> RigFacts:
    """Look at the machine as it is now."""
    host, accelerators = read_host(), find_accelerators()
    tools = {language.name: find_toolchain(language.name) for language in LANGUAGES.with_toolchain}
    return RigFacts(
        host=host,
        available_bytes=psutil.virtual_memory().available,
        accelerators=accelerators,
        toolchains={name: tool.version for name, tool in tools.items() if not isinstance(tool, Missing)},
        missing={name: tool.remedy for name, tool in tools.items() if isinstance(tool, Missing)},
        energy_counters=energy_counters(),
        fingerprint=fingerprint(host, accelerators),
    )


def rig_state(languages: Iterable[str], packages: Iterable[str]) -> dict[str, object]:
    """What a record keeps of the machine, and what it is compared with later: plain data.

    Parameters
    ----------
    languages, packages : iterable of str
        Those that a campaign's exercises use.
    """
    host, accelerators = read_host(), find_accelerators()
    return {
        "host": msgspec.to_builtins(host),
        "fingerprint": fingerprint(host, accelerators),
        "accelerators": [{"name": a.name, "memory_bytes": a.memory_bytes, "driver": a.driver} for a in accelerators],
        "toolchains": {name: _toolchain_version(name) for name in sorted(languages)},
        "packages": {name: _package_version(name) for name in sorted(packages)},
    }


def _package_version(name: str) -> str:
    packages = find_packages((name,))
    return MISSING if isinstance(packages, str) else packages.versions[0][1]


def _toolchain_version(language: str) -> str:
    toolchain = find_toolchain(language)
    return MISSING if isinstance(toolchain, Missing) else toolchain.version


def fingerprint(host: HostFacts, accelerators: tuple[AcceleratorFacts, ...]) -> str:
    """Sixteen hexadecimal digits over what results hang on: processor, memory, kernel, accelerators, drivers.

    Memory counts in whole GiB: the kernel keeps a little more or less for itself from boot to boot.
    """
    facts = {
        "cpu": [host.cpu, host.cores, host.threads],
        "memory_gib": round(host.memory_bytes / 2**30),
        "system": [host.system, host.kernel],
        "accelerators": [[a.name, a.memory_bytes, a.driver] for a in accelerators],
    }
    return hashlib.sha256(json.dumps(facts).encode()).hexdigest()[:16]


def own_fingerprint() -> str:
    """The fingerprint of this machine as it is now."""
    return fingerprint(read_host(), find_accelerators())


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
    measured = _measure()
    remember("bandwidth", key, measured)
    return measured


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
