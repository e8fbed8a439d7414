"""The whole rig in one record, and the fingerprint that changes when something that matters changes."""

import hashlib
import json
from collections.abc import Iterable

import msgspec
import psutil

from kettlefield.rig.accelerators import AcceleratorFacts, energy_counters, find_accelerators
from kettlefield.rig.host import HostFacts, read_host
from kettlefield.rig.toolchains import LANGUAGES_KNOWN, Missing, find_packages, find_toolchain

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
    found = {language: find_toolchain(language) for language in LANGUAGES_KNOWN}
    return RigFacts(
        host=host,
        available_bytes=psutil.virtual_memory().available,
        accelerators=accelerators,
        toolchains={name: tool.version for name, tool in found.items() if not isinstance(tool, Missing)},
        missing={name: tool.remedy for name, tool in found.items() if isinstance(tool, Missing)},
        energy_counters=energy_counters(),
        fingerprint=fingerprint(host, accelerators),
    )


def rig_state(languages: Iterable[str], packages: Iterable[str]) -> dict[str, object]:
    """What a record keeps of the machine, and what it is held against later: plain data.

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
    found = find_packages((name,))
    return MISSING if isinstance(found, str) else found.versions[0][1]


def _toolchain_version(language: str) -> str:
    found = find_toolchain(language)
    return MISSING if isinstance(found, Missing) else found.version


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
