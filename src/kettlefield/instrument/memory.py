"""Memory of a server's process tree, sampled in a thread of its own and kept by phase."""

import threading
import time
from dataclasses import dataclass

import numpy as np

from kettlefield.rig.accelerators import Accelerator
from kettlefield.rig.processes import process_tree, proportional_bytes


@dataclass(frozen=True, slots=True, kw_only=True)
class MemoryPhase:
    """Memory during one phase."""

    phase: str
    samples: np.ndarray  # shape (samples, 3): microseconds since the phase began, host bytes, accelerator bytes
    host_peak_bytes: int
    accelerator_peak_bytes: int
    peak_bytes: int  # of both together, at one moment


class MemorySampler:
    """Samples until it is stopped; phases are cut by ``finish_phase``."""

    def __init__(self, pid: int, accelerator: Accelerator | None, every_s: float) -> None:
        self._pid = pid
        self._accelerator = accelerator
        self._every_s = every_s
        self._lock = threading.Lock()
        self._rows: list[tuple[int, int, int]] = []
        self._began_s = time.perf_counter()
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, name="memory", daemon=True)
        self._thread.start()

    def finish_phase(self, phase: str) -> MemoryPhase | None:
        """What was seen since the last phase ended, with one more look now; None when nothing was there."""
        self._look()
        with self._lock:
            rows, self._rows = self._rows, []
            self._began_s = time.perf_counter()
        if not rows:
            return None
        samples = np.asarray(rows, dtype=np.int64)
        return MemoryPhase(
            phase=phase,
            samples=samples,
            host_peak_bytes=int(samples[:, 1].max()),
            accelerator_peak_bytes=int(samples[:, 2].max()),
            peak_bytes=int((samples[:, 1] + samples[:, 2]).max()),
        )

    def stop(self) -> None:
        """Stop sampling."""
        self._stop.set()
        self._thread.join()

    def _run(self) -> None:
        while not self._stop.wait(self._every_s):
            self._look()

    def _look(self) -> None:
        pids = process_tree(self._pid)
        if not pids:
            return
        host = sum(proportional_bytes(pid) for pid in pids)
        accelerator = self._accelerator.used_by(pids) if self._accelerator is not None else 0
        with self._lock:
            micros = round((time.perf_counter() - self._began_s) * 1e6)
            self._rows.append((max(0, micros), host, accelerator))
