"""Accelerators and energy counters that this machine has; whatever cannot be asked is simply not found."""

import contextlib
import importlib
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec


class AcceleratorFacts(msgspec.Struct, frozen=True, kw_only=True):
    """One accelerator."""

    name: str
    maker: str  # "nvidia", "amd"
    memory_bytes: int
    used_bytes: int
    driver: str


def find_accelerators(drm: Path = Path("/sys/class/drm"), nvml: Any = None) -> tuple[AcceleratorFacts, ...]:
    """Accelerators that the drivers tell of.

    Parameters
    ----------
    drm : Path
        Where the kernel lists graphics cards.
    nvml : module, optional
        Stands in for NVML in tests; by default the installed one, if there is one.
    """
    return (*_nvidia(nvml), *_amd(drm))


def energy_counters(powercap: Path = Path("/sys/class/powercap")) -> tuple[str, ...]:
    """Names of the energy counters that can be read here."""
    found = []
    for zone in sorted(powercap.glob("*:*")):
        with contextlib.suppress(OSError):
            (zone / "energy_uj").read_text()
            found.append((zone / "name").read_text().strip())
    return tuple(found)


def _nvidia(nvml: Any) -> Iterator[AcceleratorFacts]:
    if nvml is None:
        try:
            nvml = importlib.import_module("pynvml")
        except ImportError:
            return
    try:
        nvml.nvmlInit()
    except nvml.NVMLError:
        return  # no driver
    try:
        driver = _text(nvml.nvmlSystemGetDriverVersion())
        for index in range(nvml.nvmlDeviceGetCount()):
            handle = nvml.nvmlDeviceGetHandleByIndex(index)
            memory = nvml.nvmlDeviceGetMemoryInfo(handle)
            yield AcceleratorFacts(
                name=_text(nvml.nvmlDeviceGetName(handle)),
                maker="nvidia",
                memory_bytes=int(memory.total),
                used_bytes=int(memory.used),
                driver=driver,
            )
    except nvml.NVMLError:
        return
    finally:
        nvml.nvmlShutdown()


def _amd(drm: Path) -> Iterator[AcceleratorFacts]:
    for device in sorted(drm.glob("card[0-9]*/device")):
        with contextlib.suppress(OSError, ValueError):
            total = int((device / "mem_info_vram_total").read_text())
            used = int((device / "mem_info_vram_used").read_text())
            name = device / "product_name"
            version = Path("/sys/module/amdgpu/version")
            yield AcceleratorFacts(
                name=name.read_text().strip() if name.is_file() else f"{device.parent.name} (amdgpu)",
                maker="amd",
                memory_bytes=total,
                used_bytes=used,
                driver=version.read_text().strip() if version.is_file() else "kernel",
            )


def _text(value: str | bytes) -> str:
    return value.decode() if isinstance(value, bytes) else value
