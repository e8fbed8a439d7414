"""Watches a server and its host in a thread of its own: memory and energy by phase, and what disturbed a sample."""

import threading
import time
from bisect import bisect_left

import msgspec
import numpy as np

from kettlefield.rig.accelerators import Accelerator
from kettlefield.rig.energy import open_meters
from kettlefield.rig.host import HostLook, look_at_host, others_cores, own_cpu_s
from kettlefield.rig.processes import TreeWatch

LOOK_EVERY_S = 0.25  # at the counters of the host: they tick a hundred times a second, and reading them costs
LEAST_SPAN_S = 0.2  # between two looks that are compared: over less, ticks of 10 ms tell nothing
LOOK_COST = 400  # times what such a look takes lie between two at the least
SWAPPED_PAGES = 16  # a page or two are always on the way


class Phase(msgspec.Struct, frozen=True, kw_only=True):
    """Memory and energy during one phase."""

    phase: str
    samples: np.ndarray  # shape (samples, 4): microseconds since the phase began, bytes: host, accelerator, mapped
    host_peak_bytes: int
    accelerator_peak_bytes: int
    mapped_peak_bytes: int  # of the host's: file pages that are mapped
    peak_bytes: int  # of host and accelerator together, at one moment
    end_bytes: int  # of the two together, at the end
    energy_j: float | None  # None: nothing here tells
    energy_from: str | None


class Sampler:
    """Samples until it is stopped; phases are cut by ``finish_phase``."""

    def __init__(
        self, pid: int | None, accelerator: Accelerator | None, every_s: float, *, disturbed_above: float = 0.3
    ) -> None:
        self._disturbed_above = disturbed_above  # cores that other processes keep busy
        self._tree = TreeWatch(pid) if pid is not None else None
        self._accelerator = accelerator
        self._every_s = every_s
        self._lock = threading.Lock()
        self._rows: list[tuple[int, int, int, int]] = []
        self._peaks = (0, 0, 0, 0)  # of the rows: host, accelerator, mapped, host and accelerator together
        self._began_s = time.perf_counter()
        self._meters = open_meters(accelerator)
        self._joules = [0.0 for _ in self._meters]
        self._looks: list[tuple[HostLook, str | None]] = []
        self.cpu_s = 0.0  # processor time of the sampling itself so far
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, name="sampler", daemon=True)
        self._thread.start()

    def finish_phase(self, phase: str) -> Phase | None:
        """What was seen since the last phase ended, with one more look now; None when nothing was there."""
        with self._lock:
            self._look(exact=True)
            rows, self._rows = self._rows, []
            peaks, self._peaks = self._peaks, (0, 0, 0, 0)
            self._began_s = time.perf_counter()
            joules = self._energy()
        if not rows:
            return None
        names = ", ".join(meter.name for meter in self._meters) if joules is not None else None
        return _phase(phase, np.asarray(rows, dtype=np.int64), peaks, sum(rows[-1][1:3]), joules, names)

    def phase_so_far(self, phase: str) -> Phase | None:
        """The peaks of the phase that is under way, without its samples and energy; None when nothing was there."""
        with self._lock:
            if not self._rows:
                return None
            peaks, end_bytes = self._peaks, sum(self._rows[-1][1:3])
        return _phase(phase, np.empty((0, 4), dtype=np.int64), peaks, end_bytes, None, None)

    @property
    def last_bytes(self) -> int | None:
        """Host and accelerator together at the last look, without looking again; None before the first."""
        with self._lock:
            return self._rows[-1][1] + self._rows[-1][2] if self._rows else None

    def latest_bytes(self) -> int | None:
        """Host and accelerator together now; None when nothing is there."""
        with self._lock:
            self._look(exact=False)
            return self._rows[-1][1] + self._rows[-1][2] if self._rows else None

    def disturbed(self, began_s: float, ended_s: float) -> str | None:
        """What disturbed the host between two moments of the monotonic clock, in words; None: nothing.

        A moment between two looks counts with the whole span between them, and with as much of what went before as it
        takes to tell.
        """
        with self._lock:
            if not self._looks or self._looks[-1][0].at_s < ended_s:
                self._look_at_host()  # it has only just ended: without this look nothing would be known of it
            looks = list(self._looks)
        times = [look.at_s for look, _ in looks]
        first = max(0, bisect_left(times, began_s) - 1)
        last = min(len(looks) - 1, bisect_left(times, ended_s))
        while first > 0 and times[last] - times[first] < LEAST_SPAN_S:
            first -= 1
        if last <= first:
            return None
        (before, _), (after, _) = looks[first], looks[last]
        limits = {words for _, words in looks[first : last + 1] if words is not None}
        if limits:
            return min(limits)
        if after.throttles > before.throttles:
            return "the processor slowed down for heat"
        if after.swapped_pages - before.swapped_pages > SWAPPED_PAGES:
            return "the host was swapping"
        cores = others_cores(before, after)
        if self._tree is not None and cores > self._disturbed_above:
            return f"other processes kept {cores:.1f} cores busy"
        return None

    def stop(self) -> None:
        """Stop sampling."""
        self._stop.set()
        self._thread.join()
        if self._tree is not None:
            self._tree.close()

    def _run(self) -> None:
        look_at_s, due_s = float("-inf"), time.monotonic()
        while True:
            # on a fixed beat: the time that a look takes does not make the next one late
            due_s = max(due_s + self._every_s, time.monotonic())
            if self._stop.wait(due_s - time.monotonic()):
                return
            with self._lock:
                self._look(exact=False)
                if time.monotonic() >= look_at_s:
                    before_s = time.thread_time()  # not wall time: a busy host must not make the looks rare
                    self._look_at_host()
                    cost_s = time.thread_time() - before_s
                    look_at_s = time.monotonic() + max(LOOK_EVERY_S, LOOK_COST * cost_s)
            self.cpu_s = time.thread_time()

    def _look(self, *, exact: bool) -> None:
        seen = self._tree.memory(exact=exact) if self._tree is not None else None
        if seen is None or self._tree is None:
            return
        accelerator = self._accelerator.used_by(self._tree.pids) if self._accelerator is not None else 0
        micros = round((time.perf_counter() - self._began_s) * 1e6)
        self._rows.append((max(0, micros), seen.host_bytes, accelerator, seen.mapped_bytes))
        now = (seen.host_bytes, accelerator, seen.mapped_bytes, seen.host_bytes + accelerator)
        self._peaks = tuple(map(max, self._peaks, now))  # type: ignore[assignment]

    def _look_at_host(self) -> None:
        own = own_cpu_s() + (self._tree.cpu_s() if self._tree is not None else 0.0)
        limited = self._accelerator.limited() if self._accelerator is not None else None
        self._looks.append((look_at_host(own), limited))
        for meter in self._meters:
            meter.read_j()  # counters wrap: they are read often enough to notice

    def _energy(self) -> float | None:
        """Joules since the last phase, over all meters that can still be read."""
        joules, told = 0.0, False
        for number, meter in enumerate(self._meters):
            now = meter.read_j()
            if now is not None:
                joules += now - self._joules[number]
                self._joules[number], told = now, True
        return joules if told else None


def _phase(
    phase: str,
    samples: np.ndarray,
    peaks: tuple[int, int, int, int],
    end_bytes: int,
    energy_j: float | None,
    energy_from: str | None,
) -> Phase:
    host, accelerator, mapped, together = peaks
    return Phase(
        phase=phase,
        samples=samples,
        host_peak_bytes=host,
        accelerator_peak_bytes=accelerator,
        mapped_peak_bytes=mapped,
        peak_bytes=together,
        end_bytes=end_bytes,
        energy_j=energy_j,
        energy_from=energy_from,
    )
