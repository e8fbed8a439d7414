"""Accelerators against a made-up NVML and a made-up sysfs tree; energy counters that wrap; a busy host."""

import types

import pytest

from kettlefield.core.errors import InputError, RigError
from kettlefield.rig.accelerators import AmdCard, NvidiaCard, SimulatedCard, Watched, open_accelerator
from kettlefield.rig.energy import open_meters
from kettlefield.rig.host import look_at_host, others_cores

GIB = 2**30


class FakeNvml(types.SimpleNamespace):
    """Enough of NVML for one card; `broken` makes every question fail."""

    class NVMLError(Exception):
        """As the library's."""

    NVML_CLOCK_MEM = 2
    broken = False
    reasons = 0

    def __getattr__(self, name):
        answers = {
            "nvmlInit": lambda: None,
            "nvmlDeviceGetCount": lambda: 1,
            "nvmlDeviceGetHandleByIndex": lambda index: index,
            "nvmlDeviceGetName": lambda _: b"Test card",
            "nvmlDeviceGetMemoryInfo": lambda _: types.SimpleNamespace(total=8 * GIB, used=3 * GIB),
            "nvmlDeviceGetMaxClockInfo": lambda *_: 5000,
            "nvmlDeviceGetMemoryBusWidth": lambda _: 256,
            "nvmlDeviceGetComputeRunningProcesses": lambda _: [
                types.SimpleNamespace(pid=7, usedGpuMemory=2 * GIB),
                types.SimpleNamespace(pid=8, usedGpuMemory=None),
                types.SimpleNamespace(pid=9, usedGpuMemory=GIB),
            ],
            "nvmlDeviceGetTotalEnergyConsumption": lambda _: 123_000,
            "nvmlDeviceGetCurrentClocksThrottleReasons": lambda _: self.reasons,
        }
        if name not in answers:
            raise AttributeError(name)

        def call(*args):
            if self.broken:
                raise self.NVMLError("lost")
            return answers[name](*args)

        return call


def test_a_card_that_nvml_tells_of():
    nvml = FakeNvml()
    card = NvidiaCard(nvml, 0)
    assert (card.name, card.memory_bytes, card.used()) == ("Test card", 8 * GIB, 3 * GIB)
    assert card.bandwidth_bytes_s == 2 * 5000e6 * 256 / 8
    assert card.used_by([7, 8]) == 2 * GIB and card.energy_j() == 123.0
    assert card.limited() is None
    nvml.reasons = 0x40
    assert card.limited() == "Test card: heat"
    with pytest.raises(InputError, match="no nvidia:1"):
        NvidiaCard(nvml, 1)


def test_a_card_that_vanishes_is_told_once_and_the_host_is_measured_on():
    nvml, said = FakeNvml(), []
    card = Watched(NvidiaCard(nvml, 0), said.append)
    assert card.used_by([9]) == GIB and not said
    nvml.broken = True
    assert (card.used_by([9]), card.used(), card.limited()) == (0, 0, None)
    nvml.broken = False
    assert card.used_by([9]) == 0 and len(said) == 1 and "host only" in said[0]


def drm_tree(root, used=GIB):
    device = root / "card0" / "device"
    sensor = device / "hwmon" / "hwmon3"
    sensor.mkdir(parents=True)
    for name, value in {
        "mem_info_vram_total": 4 * GIB,
        "mem_info_vram_used": used,
        "product_name": "Made-up AMD",
    }.items():
        (device / name).write_text(f"{value}\n")
    for name, value in {"energy1_input": 5_000_000, "temp1_input": 70_000, "temp1_crit": 95_000}.items():
        (sensor / name).write_text(f"{value}\n")
    return device


def test_a_card_that_the_kernels_files_tell_of(tmp_path):
    device = drm_tree(tmp_path)
    card = AmdCard(device)
    assert (card.name, card.memory_bytes, card.used(), card.used_by([1])) == ("Made-up AMD", 4 * GIB, GIB, 0)
    (device / "mem_info_vram_used").write_text(str(3 * GIB))
    assert (card.used_by([1]), card.used_by([]), card.energy_j(), card.limited()) == (2 * GIB, 0, 5.0, None)
    (device / "hwmon/hwmon3/temp1_input").write_text("96000")
    assert card.limited() == "Made-up AMD: heat"
    (device / "mem_info_vram_used").unlink()
    with pytest.raises(RigError, match="host only"):
        card.used()


def test_the_plans_word_opens_what_is_there(tmp_path):
    drm_tree(tmp_path / "drm")
    nothing = tmp_path / "none"
    no_driver = FakeNvml(broken=True)
    where = {"nvml": no_driver, "drm": nothing}
    assert open_accelerator("none", tmp_path) is None and open_accelerator("auto", tmp_path, **where) is None
    assert isinstance(open_accelerator("auto", tmp_path, nvml=FakeNvml(), drm=nothing), NvidiaCard)
    assert isinstance(open_accelerator("auto", tmp_path, nvml=no_driver, drm=tmp_path / "drm"), AmdCard)
    assert isinstance(open_accelerator("amd:0", tmp_path, drm=tmp_path / "drm"), AmdCard)
    for wrong in ("amd:7", "cuda", "nvidia:x"):
        with pytest.raises(InputError):
            open_accelerator(wrong, tmp_path, **where)
    with pytest.raises(RigError, match="driver fails"):
        open_accelerator("nvidia:0", tmp_path, **where)


def test_energy_of_whole_packages_across_a_wrap(tmp_path):
    for name, now in {"intel-rapl:0": 900, "intel-rapl:0:0": 500}.items():
        zone = tmp_path / name
        zone.mkdir()
        for file, value in {"name": "package-0", "energy_uj": now, "max_energy_range_uj": 999}.items():
            (zone / file).write_text(f"{value}\n")
    (meter,) = open_meters(None, tmp_path)  # the part of a package is in it already
    (tmp_path / "intel-rapl:0" / "energy_uj").write_text("100")
    assert meter.name == "package-0" and meter.read_j() == pytest.approx(200e-6)
    (tmp_path / "intel-rapl:0" / "energy_uj").unlink()
    assert meter.read_j() is None
    assert open_meters(None, tmp_path / "nowhere") == []


def test_energy_of_a_simulated_card_never_falls_when_a_process_ends(tmp_path, monkeypatch):
    from kettlefield.rig import simulated_card

    (tmp_path / "card.toml").write_text(
        'name = "C"\nmemory_bytes = 1000\nbandwidth_bytes_s = 1.0\ncompute_flops = 1.0\nload_bytes_s = 1.0\nbusy_w = 9\n'
    )
    card = SimulatedCard(tmp_path)
    simulated_card.report_work(tmp_path, 40.0, throttled=True)
    assert (card.energy_j(), card.limited()) == (40.0, "the simulated card is throttled")
    monkeypatch.setattr(simulated_card.psutil, "pid_exists", lambda _: False)
    assert card.energy_j() == 40.0 and card.limited() is None


def test_a_busy_host_is_seen(tmp_path):
    def look(ticks, own, swapped, throttles):
        (tmp_path / "proc").mkdir(exist_ok=True)
        (tmp_path / "proc/stat").write_text(f"cpu {ticks} 0 0 5 5 0 0 0 0 0\n")
        (tmp_path / "proc/vmstat").write_text(f"pswpin {swapped}\npswpout 1\n")
        zone = tmp_path / "sys/devices/system/cpu/cpu0/thermal_throttle"
        zone.mkdir(parents=True, exist_ok=True)
        (zone / "core_throttle_count").write_text(str(throttles))
        return look_at_host(own, tmp_path)

    first, second = look(1000, 2.0, 3, 0), look(1400, 3.0, 90, 2)
    assert second.busy_s - first.busy_s == pytest.approx(4.0)
    span = second.at_s - first.at_s
    assert others_cores(first, second) == pytest.approx(3.0 / span)
    assert (second.swapped_pages - first.swapped_pages, second.throttles) == (87, 2)
    assert look_at_host(0.0, tmp_path / "nowhere").busy_s == 0.0
