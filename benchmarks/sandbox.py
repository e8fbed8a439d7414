"""What isolation costs: a Python run isolated, the same run bare, and the isolation's own floor, in one run.

python benchmarks/sandbox.py [--runs 40]
"""

import argparse
import os
import subprocess
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import numpy as np

from kettlefield.languages.all_languages import find_toolchain
from kettlefield.languages.language import Toolchain
from kettlefield.sandbox.isolation import Bubblewrap
from kettlefield.sandbox.job import Job, RunLimits
from kettlefield.sandbox.runner import Sandbox

LIMITS = RunLimits(wall_s=20, cpu_s=10, memory_bytes=2**29, output_bytes=2**20)
CODE = "print('ebb')\n"
FLOOR = ["bwrap", "--unshare-all", "--ro-bind", "/", "/", "--proc", "/proc", "--dev", "/dev", "true"]


def timed(work: Callable[[], object]) -> float:
    """Milliseconds that one call takes."""
    began = time.perf_counter()
    work()
    return (time.perf_counter() - began) * 1e3


def main() -> None:
    """Print medians, our own overhead, and runs a second by workers."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--runs", type=int, default=40)
    args = parser.parse_args()
    toolchain = find_toolchain("python")
    assert isinstance(toolchain, Toolchain)
    flags = ("-S", "-s", "-E", "-B")
    job = Job(
        argv=(toolchain.program, *flags, "a.py"),
        limits=LIMITS,
        files={"a.py": CODE},
        mounts=toolchain.mounts,
        result_fd=False,
    )
    sandbox = Sandbox(Bubblewrap())
    bare_command = [toolchain.program, *flags, "-c", CODE]

    def bare() -> None:
        subprocess.run(bare_command, capture_output=True, check=True)

    def floor() -> None:
        subprocess.run(FLOOR, capture_output=True, check=True)

    def isolated() -> None:
        report = sandbox.run(job)
        assert report.stdout == b"ebb\n", report

    kinds = {"bare": bare, "isolation floor": floor, "isolated": isolated}
    found: dict[str, list[float]] = {name: [] for name in kinds}
    with ThreadPoolExecutor(1) as grader:  # as answers are graded: a thread that keeps its control group
        for _ in range(args.runs):  # in turn, so that a slow moment falls on all
            for name, work in kinds.items():
                found[name].append(grader.submit(timed, work).result())
    medians = {name: float(np.median(values)) for name, values in found.items()}
    for name, median in medians.items():
        print(f"{name:16} {median:7.1f} ms  (x {median / medians['bare']:.2f} of bare)")
    above = medians["isolated"] - medians["bare"] - medians["isolation floor"]
    print(f"{'our overhead':16} {above:7.1f} ms above bare + floor")
    one = None
    for workers in (1, os.cpu_count() or 1):
        with ThreadPoolExecutor(workers) as pool:
            took = timed(lambda pool=pool: list(pool.map(lambda _: isolated(), range(args.runs)))) / 1e3
        rate = args.runs / took
        one = one or rate
        print(f"{workers} workers: {rate:5.1f} runs/s (x {rate / one:.2f})")


if __name__ == "__main__":
    main()
