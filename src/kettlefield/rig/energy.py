"""Energy as counters tell it: the processor's (powercap) and an accelerator's. No counter, no figure."""

import contextlib
from pathlib import Path
from typing import Protocol

from kettlefield.rig.accelerators import Accelerator

_JOULES = 1e-6  # a microjoule


class Meter(Protocol):
    """Something that counts joules."""

    name: str

    def read_j(self) -> float | None:
        """Joules since the meter was opened; None when it can no longer be read."""
        ...


class PowercapMeter:
    """One package of the processor, as the kernel's powercap folder tells it; the counter wraps round."""

    def __init__(self, zone: Path) -> None:
        self._file = zone / "energy_uj"
        self._range_uj = int((zone / "max_energy_range_uj").read_text())
        self.name = (zone / "name").read_text().strip()
        self._last_uj = int(self._file.read_text())
        self._sum_uj = 0

    def read_j(self) -> float | None:
        """See ``Meter``; read it more often than the counter wraps, a minute or so."""
        try:
            now = int(self._file.read_text())
        except (OSError, ValueError):
            return None
        self._sum_uj += (now - self._last_uj) % (self._range_uj + 1)
        self._last_uj = now
        return self._sum_uj * _JOULES


class AcceleratorMeter:
    """An accelerator that counts its own energy."""

    def __init__(self, accelerator: Accelerator, first_j: float) -> None:
        self._accelerator, self._first_j = accelerator, first_j
        self.name = accelerator.name

    def read_j(self) -> float | None:
        """See ``Meter``."""
        now = self._accelerator.energy_j()
        return now - self._first_j if now is not None else None


def open_meters(accelerator: Accelerator | None, powercap: Path = Path("/sys/class/powercap")) -> list[Meter]:
    """Every meter that can be read here. Only whole packages: their parts are counted in them."""
    meters: list[Meter] = []
    for zone in sorted(powercap.glob("*:[0-9]*")):
        if zone.name.count(":") == 1:
            with contextlib.suppress(OSError, ValueError):
                meters.append(PowercapMeter(zone))
    first_j = accelerator.energy_j() if accelerator is not None else None
    if accelerator is not None and first_j is not None:
        meters.append(AcceleratorMeter(accelerator, first_j))
    return meters
