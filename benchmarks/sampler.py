"""The sampler's own cost: processor share and missed looks at 20 Hz over a tree of 50 processes.

Beside it, in the same run, a plain reader that asks psutil for every process's memory at the same rate.

    python benchmarks/sampler.py [--seconds 10] [--processes 50] [--hz 20]
"""

import argparse
import subprocess
import sys
import time

import psutil

from kettlefield.measure.sampler import Sampler

TREE = (
    "import subprocess, sys, time\n"
    "sleep = [sys.executable, '-c', 'import time; time.sleep(600)']\n"
    "kids = [subprocess.Popen(sleep) for _ in range(int(sys.argv[1]))]\n"
    "print('in', flush=True)\n"
    "time.sleep(600)"
)


def plain_reader(pid: int, seconds: float, hz: float) -> float:
    """Processor share of a reader that walks the tree with psutil at every look."""
    began_s, before = time.perf_counter(), time.thread_time()
    due_s = time.monotonic()
    while time.perf_counter() - began_s < seconds:
        due_s += 1 / hz
        time.sleep(max(0.0, due_s - time.monotonic()))
        root = psutil.Process(pid)
        sum(process.memory_full_info().pss for process in (root, *root.children(recursive=True)))
    return (time.thread_time() - before) / (time.perf_counter() - began_s)


def main() -> None:
    """Print the shares and their ratio."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--seconds", type=float, default=10.0)
    parser.add_argument("--processes", type=int, default=50)
    parser.add_argument("--hz", type=float, default=20.0)
    args = parser.parse_args()
    tree = subprocess.Popen([sys.executable, "-c", TREE, str(args.processes)], stdout=subprocess.PIPE)
    assert tree.stdout is not None
    tree.stdout.readline()
    time.sleep(2)  # interpreters starting are none of the sampler's business
    sampler = Sampler(tree.pid, None, 1 / args.hz)
    time.sleep(args.seconds)
    seen = sampler.finish_phase("benchmark")
    sampler.stop()
    share = sampler.cpu_s / args.seconds
    assert seen is not None
    missed = max(0, int(args.seconds * args.hz) - (len(seen.samples) - 1))
    plain = plain_reader(tree.pid, args.seconds, args.hz)
    for process in psutil.Process(tree.pid).children(recursive=True):
        process.kill()
    tree.kill()
    print(f"{args.processes} processes at {args.hz:g} Hz for {args.seconds:g} s, share of one core")
    print(f"sampler {share:.2%}, {missed} looks missed; plain psutil reader {plain:.2%}; ratio {share / plain:.3f}")


if __name__ == "__main__":
    main()
