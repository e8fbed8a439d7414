"""The host: what it is, read from the kernel through psutil."""

import os
import platform
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
