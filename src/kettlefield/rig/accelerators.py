"""Accelerators behind one face: which there are, what processes use on them, their energy and their limits."""

import contextlib
import importlib
from collections.abc import Callable, Collection, Iterator
from pathlib import Path
from typing import Any, ClassVar, Protocol, TypeVar

import msgspec

from kettlefield.core.errors import InputError, RigError
from kettlefield.rig import simulated_card

SIMULATED_PREFIX = "simulated:"
T = TypeVar("T")
DRM = Path("/sys/class/drm")


class Accelerator(Protocol):
    """One accelerator. A figure that its driver does not tell is None; a driver that fails raises `RigError`."""

    name: str
    memory_bytes: int
    bandwidth_bytes_s: float | None  # memory reads, bytes a second
    simulated: bool

    def used_by(self, pids: Collection[int]) -> int:
        """Bytes that these processes use on it."""
        ...

    def used(self) -> int:
        """Bytes that all processes use on it."""
        ...

    def energy_j(self) -> float | None:
        """Joules that it has used since some moment in the past."""
        ...

    def limited(self) -> str | None:
        """What slows it down at the moment, in words: heat, power; None: nothing."""
        ...


class SimulatedCard:
    """The simulated card, read as another process reads a real one."""

    simulated = True

    def __init__(self, folder: Path) -> None:
        card = simulated_card.read_card(folder)
        self.name = f"{card.name} (simulated)"
        self.memory_bytes = card.memory_bytes
        self.bandwidth_bytes_s: float | None = card.bandwidth_bytes_s
        self._tells_power = card.busy_w > 0
        self._folder = folder
        self._highest_j, self._before_j = 0.0, 0.0

    def used_by(self, pids: Collection[int]) -> int:
        """See ``Accelerator``."""
        return sum(used for pid, used in simulated_card.used_bytes(self._folder).items() if pid in pids)

    def used(self) -> int:
        """See ``Accelerator``."""
        return sum(simulated_card.used_bytes(self._folder).values())

    def energy_j(self) -> float | None:
        """See ``Accelerator``; every process counts its own, so the sum never falls when one ends."""
        if not self._tells_power:
            return None
        now, _ = simulated_card.work_told(self._folder)
        if now < self._highest_j:
            self._before_j += self._highest_j
            self._highest_j = 0.0
        self._highest_j = max(self._highest_j, now)
        return self._before_j + self._highest_j

    def limited(self) -> str | None:
        """See ``Accelerator``."""
        _, throttled = simulated_card.work_told(self._folder)
        return "the simulated card is throttled" if throttled else None


class NvidiaCard:
    """A card that NVML tells of."""

    simulated = False
    # bits of the reasons for a lower clock: power cap, hardware slowdown, heat in software and hardware, power brake
    _REASONS: ClassVar = {
        0x04: "power limit",
        0x08: "hardware slowdown",
        0x20: "heat",
        0x40: "heat",
        0x80: "power brake",
    }

    def __init__(self, nvml: Any, index: int) -> None:
        self._nvml = nvml
        try:
            nvml.nvmlInit()
            if not 0 <= index < nvml.nvmlDeviceGetCount():
                raise InputError(f"there is no nvidia:{index}", "plan [rig] accelerator", "See `kettlefield rig`.")
            self._handle = nvml.nvmlDeviceGetHandleByIndex(index)
            name = nvml.nvmlDeviceGetName(self._handle)
            self.name = name.decode() if isinstance(name, bytes) else str(name)
            self.memory_bytes = int(nvml.nvmlDeviceGetMemoryInfo(self._handle).total)
        except nvml.NVMLError as err:
            raise RigError(f"the driver fails ({err})", "nvidia", "See `kettlefield rig`.") from err
        self.bandwidth_bytes_s: float | None = None
        with contextlib.suppress(nvml.NVMLError, AttributeError):
            # two transfers a clock of the memory's bus
            megahertz = nvml.nvmlDeviceGetMaxClockInfo(self._handle, nvml.NVML_CLOCK_MEM)
            bits = nvml.nvmlDeviceGetMemoryBusWidth(self._handle)
            self.bandwidth_bytes_s = 2 * megahertz * 1e6 * bits / 8

    def used_by(self, pids: Collection[int]) -> int:
        """See ``Accelerator``; processes in other namespaces have other numbers and are missed."""
        processes = self._ask(self._nvml.nvmlDeviceGetComputeRunningProcesses)
        return sum(int(p.usedGpuMemory or 0) for p in processes if p.pid in pids)

    def used(self) -> int:
        """See ``Accelerator``."""
        return int(self._ask(self._nvml.nvmlDeviceGetMemoryInfo).used)

    def energy_j(self) -> float | None:
        """See ``Accelerator``; older cards do not count."""
        with contextlib.suppress(self._nvml.NVMLError, AttributeError):
            return float(self._nvml.nvmlDeviceGetTotalEnergyConsumption(self._handle)) / 1000
        return None

    def limited(self) -> str | None:
        """See ``Accelerator``."""
        with contextlib.suppress(self._nvml.NVMLError, AttributeError):
            bits = self._nvml.nvmlDeviceGetCurrentClocksThrottleReasons(self._handle)
            words = [word for bit, word in self._REASONS.items() if bits & bit]
            return f"{self.name}: {words[0]}" if words else None
        return None

    def _ask(self, call: Callable[[Any], Any]) -> Any:
        try:
            return call(self._handle)
        except self._nvml.NVMLError as err:
            raise RigError(f"the driver fails ({err})", self.name, "Memory is measured on the host only.") from err


class AmdCard:
    """A card that the kernel's files tell of. They know no processes, so all of its use counts as the server's."""

    simulated = False
    bandwidth_bytes_s: float | None = None

    def __init__(self, device: Path) -> None:
        self._device = device
        try:
            self.memory_bytes = int((device / "mem_info_vram_total").read_text())
        except (OSError, ValueError) as err:
            raise InputError("is not an accelerator", str(device), "See `kettlefield rig`.") from err
        name = device / "product_name"
        self.name = name.read_text().strip() if name.is_file() else f"{device.parent.name} (amdgpu)"
        self._at_first = self.used()

    def used_by(self, pids: Collection[int]) -> int:
        """See ``Accelerator``: what is in use beyond what was when the card was opened."""
        return max(0, self.used() - self._at_first) if pids else 0

    def used(self) -> int:
        """See ``Accelerator``."""
        try:
            return int((self._device / "mem_info_vram_used").read_text())
        except (OSError, ValueError) as err:
            raise RigError(f"cannot be read ({err})", self.name, "Memory is measured on the host only.") from err

    def energy_j(self) -> float | None:
        """See ``Accelerator``."""
        for path in sorted(self._device.glob("hwmon/hwmon*/energy1_input")):
            with contextlib.suppress(OSError, ValueError):
                return int(path.read_text()) * 1e-6
        return None

    def limited(self) -> str | None:
        """See ``Accelerator``: at its critical temperature."""
        for sensor in self._device.glob("hwmon/hwmon*"):
            with contextlib.suppress(OSError, ValueError):
                now, most = (int((sensor / f"temp1_{name}").read_text()) for name in ("input", "crit"))
                if now >= most:
                    return f"{self.name}: heat"
        return None


class Watched:
    """An accelerator whose first failure is reported once; from then on it is gone and the host alone is measured."""

    def __init__(self, inner: Accelerator, tell: Callable[[str], None]) -> None:
        self._inner, self._tell = inner, tell
        self._gone = False
        self.name, self.memory_bytes = inner.name, inner.memory_bytes
        self.bandwidth_bytes_s, self.simulated = inner.bandwidth_bytes_s, inner.simulated

    def used_by(self, pids: Collection[int]) -> int:
        """See ``Accelerator``."""
        return self._try(lambda: self._inner.used_by(pids), 0)

    def used(self) -> int:
        """See ``Accelerator``."""
        return self._try(self._inner.used, 0)

    def energy_j(self) -> float | None:
        """See ``Accelerator``."""
        return self._try(self._inner.energy_j, None)

    def limited(self) -> str | None:
        """See ``Accelerator``."""
        return self._try(self._inner.limited, None)

    def _try(self, ask: Callable[[], T], otherwise: T) -> T:
        if self._gone:
            return otherwise
        try:
            return ask()
        except (RigError, OSError, ValueError) as err:
            self._gone = True
            self._tell(f"{self.name} fails ({err}); from here on memory is measured on the host only")
            return otherwise


def open_accelerator(wanted: str, beside: Path, *, nvml: Any = None, drm: Path = DRM) -> Accelerator | None:
    """The accelerator that a plan names; None for none, and for ``"auto"`` where none is found.

    Parameters
    ----------
    wanted : str
        ``"auto"``, ``"none"``, ``"nvidia:N"``, ``"amd:N"`` or ``"simulated:FOLDER"``. Memory that processor and
        accelerator share is host memory: ``"none"``.
    beside : Path
        The plan's folder, which FOLDER is relative to.
    nvml : module, optional
        Stands in for NVML in tests.
    drm : Path
        Where the kernel lists graphics cards.

    Raises
    ------
    InputError
        The name is not an accelerator that is here.
    RigError
        Its driver fails.
    """
    if wanted == "none":
        return None
    if wanted.startswith(SIMULATED_PREFIX):
        return SimulatedCard(beside / wanted.removeprefix(SIMULATED_PREFIX))
    if wanted == "auto":
        return _first_found(nvml, drm)
    maker, _, number = wanted.partition(":")
    if maker == "nvidia" and number.isdigit():
        library = nvml or _nvml()
        if library is None:
            raise InputError("NVML is not here", "plan [rig] accelerator", "Install the driver, or write another.")
        return NvidiaCard(library, int(number))
    if maker == "amd" and number.isdigit():
        return AmdCard(drm / f"card{number}" / "device")
    hint = 'Write "auto", "none", "nvidia:0", "amd:0" or "simulated:FOLDER".'
    raise InputError(f'unknown accelerator "{wanted}"', "plan [rig] accelerator", hint)


def _first_found(nvml: Any, drm: Path) -> Accelerator | None:
    library = nvml or _nvml()
    if library is not None:
        with contextlib.suppress(InputError, RigError):
            return NvidiaCard(library, 0)
    for device in sorted(drm.glob("card[0-9]*/device")):
        with contextlib.suppress(InputError, RigError):
            return AmdCard(device)
    return None


def _nvml() -> Any:
    with contextlib.suppress(ImportError):
        return importlib.import_module("pynvml")
    return None


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
    counters = []
    for zone in sorted(powercap.glob("*:*")):
        with contextlib.suppress(OSError):
            (zone / "energy_uj").read_text()
            counters.append((zone / "name").read_text().strip())
    return tuple(counters)


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
