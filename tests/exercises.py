"""Exercises written into a temporary folder, for tests of what the built-in suite does not hold."""

import json
from collections import Counter
from functools import cache
from pathlib import Path

import msgspec
import tomli_w

from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.grading.grader import Grader
from kettlefield.sandbox.runner import Sandbox, available_isolation
from kettlefield.suite.loader import load_exercise


@cache
def grader():
    """The grader that a module's tests share."""
    return Grader(available_isolation())


BASE = {
    "title": "A test",
    "kind": "write",
    "language": "python",
    "file": "answer.py",
    "difficulty": 1,
    "topics": ["tests"],
    "tests": "Nothing of its own.",
    "decoy": [],
}


def write_exercise(folder: Path, spec: dict, files: dict[str, object]):
    """Write an exercise; values that are not text become JSON. ``answer`` and ``prompt`` may be left out."""
    folder.mkdir(parents=True, exist_ok=True)
    merged = BASE | spec
    (folder / "exercise.toml").write_text(tomli_w.dumps(merged))
    for name, content in ({"prompt.md": "Do it.\n", f"answer/{merged['file']}": "x = 1\n"} | files).items():
        path = folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(content if isinstance(content, str) else json.dumps(content))
    return load_exercise(CHECKS, folder)


class Stalling(Sandbox):
    """A host so busy that the first runs of each answer end at their time limit."""

    def __init__(self, runs: int) -> None:
        super().__init__(available_isolation())
        self.runs, self.seen = runs, Counter()

    def run(self, job):
        files = tuple(sorted(job.files.items()))
        self.seen[files] += 1
        report = super().run(job)
        is_late = self.seen[files] <= self.runs
        return msgspec.structs.replace(report, timed_out=True, results=b"") if is_late else report
