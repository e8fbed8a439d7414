"""How long `kettlefield --help` takes, against a bare interpreter in the same run.

python benchmarks/help.py
"""

import subprocess
import sys
import time
from pathlib import Path

ROUNDS = 15


def median_s(*words: str) -> float:
    """Median seconds of a command."""
    taken = []
    for _ in range(ROUNDS):
        began = time.perf_counter()
        subprocess.run(words, stdout=subprocess.DEVNULL, check=True)
        taken.append(time.perf_counter() - began)
    return sorted(taken)[ROUNDS // 2]


def main() -> None:
    program = str(Path(sys.executable).with_name("kettlefield"))
    bare = median_s(sys.executable, "-c", "pass")
    for words in (("--help",), ("compare", "--help"), ("--version",)):
        ours = median_s(program, *words)
        print(f"kettlefield {' '.join(words)}: {ours * 1000:.0f} ms, {ours / bare:.1f} times `python -c pass`")


if __name__ == "__main__":
    main()
