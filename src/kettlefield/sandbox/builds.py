"""Answers made ready to run: scripts as they are, compiled languages built once in isolation.

A build runs in an isolation of its own. What it makes comes out over the private descriptor and is laid into
each run, so nothing that a compiler was made to write elsewhere survives.
"""

import re
import shlex
import threading
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from kettlefield.core.outcome import RunEnd
from kettlefield.core.plaintext import last_lines, shorten
from kettlefield.rig.toolchains import Packages, Toolchain
from kettlefield.sandbox.isolation import Isolation
from kettlefield.sandbox.job import Job, RunLimits, RunReport
from kettlefield.sandbox.runner import run_job
from kettlefield.sandbox.runtimes import calls_job, script_job

BUILD_LIMITS = RunLimits(
    wall_s=90,
    cpu_s=90,
    memory_bytes=3 * 2**30,
    output_bytes=2**20,
    processes=128,
    file_bytes=256 * 2**20,
    scratch_bytes=512 * 2**20,
)
# the same answer comes again: from a neighbouring level, another sample, a check that compares with the own answer
KEPT_BUILDS = 24
_kept: dict[object, bytes] = {}
_kept_lock = threading.Lock()
MADE_DIR = ".made"  # of what a build makes; an answer's own names never begin with a dot
ERROR_CHARS = 1200  # of a compiler's words


@dataclass(frozen=True, slots=True, kw_only=True)
class Recipe:
    """How one language is built and run; ``@`` stands for the answer's file, ``PROGRAM`` for the toolchain's."""

    build: str | None  # a bash line that leaves the program in /tmp/out, or that only checks
    keeps: str | None  # name that what it made gets beside the answer; None: the source itself is run
    run: tuple[str, ...]
    missing: re.Pattern[str]  # what a compiler or the run says when a package or header is not there
    syntax: re.Pattern[str] | None = None  # what a run says when the source does not even parse
    bound_address_space: bool = True  # of the run
    joins: bool = False  # the compiler takes all source files of a program at once


RECIPES = {
    "c": Recipe(
        build="PROGRAM -std=c17 -O1 -o /tmp/out @ -lm -pthread",
        keeps=f"{MADE_DIR}/program",
        run=(f"./{MADE_DIR}/program",),
        missing=re.compile(r"fatal error: \S+: No such file"),
        joins=True,
    ),
    "cpp": Recipe(
        build="PROGRAM -std=c++20 -O1 -o /tmp/out @ -pthread",
        keeps=f"{MADE_DIR}/program",
        run=(f"./{MADE_DIR}/program",),
        missing=re.compile(r"fatal error: \S+: No such file"),
        joins=True,
    ),
    "rust": Recipe(
        build="PROGRAM --edition 2021 -O -o /tmp/out @",
        keeps=f"{MADE_DIR}/program",
        run=(f"./{MADE_DIR}/program",),
        missing=re.compile(r"use of (?:undeclared|unresolved) (?:crate|module)|can't find crate|unresolved import"),
    ),
    "go": Recipe(
        build="HOME=/tmp GOCACHE=/tmp/cache GOFLAGS=-mod=mod GO111MODULE=off PROGRAM build -o /tmp/out @",
        keeps=f"{MADE_DIR}/program",
        run=(f"./{MADE_DIR}/program",),
        missing=re.compile(r"cannot find package|is not in GOROOT|no required module"),
        bound_address_space=False,
        joins=True,
    ),
    "java": Recipe(
        build="mkdir /tmp/o && PROGRAM -J-Xmx512m -d /tmp/o @ && (cd /tmp/o && jar -J-Xmx256m cf /tmp/out .)",
        keeps=f"{MADE_DIR}/program.jar",
        run=(
            "java",
            "-Xmx{heap_mib}m",
            "-XX:+UseSerialGC",
            "-XX:TieredStopAtLevel=1",
            "-cp",
            f"{MADE_DIR}/program.jar",
            "{stem}",
        ),
        missing=re.compile(r"error: package \S+ does not exist"),
        bound_address_space=False,
        joins=True,
    ),
    "bash": Recipe(
        build="PROGRAM -n @",
        keeps=None,
        run=("bash", "@"),
        missing=re.compile(r": command not found"),
    ),
    "sql": Recipe(
        # a case's standard input sets the tables up, then the answer runs; results leave as CSV with a header
        build=None,
        keeps=None,
        run=("sqlite3", "-batch", "-bail", "-csv", "-header", ":memory:", ".read /dev/stdin", ".read @"),
        missing=re.compile(r"no such module"),
        syntax=re.compile(r"syntax error|incomplete input|unrecognized token"),
    ),
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Built:
    """An answer ready to run."""

    toolchain: Toolchain
    files: Mapping[str, str | bytes]
    main: str
    packages: Packages | None = None  # declared by the exercise, seen by the answer

    def calls_job(self, order: dict[str, Any], limits: RunLimits) -> Job:
        """One run of the harness that calls functions of it."""
        return calls_job(self.toolchain, self._texts(), order, limits, self.packages)

    def job(self, nonce: str, stdin: bytes, args: tuple[str, ...], limits: RunLimits) -> Job:
        """One run of it."""
        recipe = RECIPES.get(self.toolchain.language)
        if recipe is None:
            return script_job(self.toolchain, self._texts(), (nonce, self.main, *args), stdin, limits, self.packages)
        heap_mib = max(16, limits.memory_bytes // 2**20 - 96)
        stem = self.main.rsplit(".", 1)[0]
        return Job(
            argv=(*(w.replace("@", self.main).format(heap_mib=heap_mib, stem=stem) for w in recipe.run), *args),
            limits=limits,
            files=self.files,
            stdin=stdin,
            mounts=self.toolchain.mounts,
            bound_address_space=recipe.bound_address_space,
            result_fd=False,
        )

    def _texts(self) -> dict[str, str]:
        return {name: content for name, content in self.files.items() if isinstance(content, str)}

    def end_of(self, report: RunReport) -> RunEnd | None:
        """What a run's own words say of its end, for languages without a harness; None when they say nothing."""
        recipe = RECIPES.get(self.toolchain.language)
        if recipe is None or report.exit_status == 0:
            return None
        said = report.stderr.decode("utf-8", errors="replace")
        if recipe.syntax is not None and recipe.syntax.search(said):
            return RunEnd.NO_BUILD
        return RunEnd.MISSING_MODULE if recipe.missing.search(said) else None


@dataclass(frozen=True, slots=True, kw_only=True)
class BuildFault:
    """Why an answer could not be built."""

    end: RunEnd
    words: str
    wall_s: float


def build_answer(
    toolchain: Toolchain,
    files: dict[str, str],
    main: str,
    isolation: Isolation,
    packages: Packages | None = None,
) -> Built | BuildFault:
    """Make an answer ready to run; compiled languages are built once, whatever number of runs follows.

    Raises
    ------
    RigError
        The host has no room or no right to run the build.
    """
    recipe = RECIPES.get(toolchain.language)
    if recipe is None or recipe.build is None:
        return Built(toolchain=toolchain, files=files, main=main, packages=packages)
    key = (toolchain, main, tuple(sorted(files.items())), isolation.name)
    with _kept_lock:
        made = _kept.get(key)
    if made is None:
        report = _compile(toolchain, recipe, files, main, isolation)
        fault = _fault(recipe, report)
        if fault is not None:
            return fault
        made = report.results
        with _kept_lock:
            _kept[key] = made
            while len(_kept) > KEPT_BUILDS:
                del _kept[next(iter(_kept))]
    program: dict[str, str | bytes] = {recipe.keeps: made} if recipe.keeps else {}
    return Built(toolchain=toolchain, files={**files, **program}, main=main, packages=packages)


def _compile(toolchain: Toolchain, recipe: Recipe, files: dict[str, str], main: str, isolation: Isolation) -> RunReport:
    command = (recipe.build or "").replace("PROGRAM", toolchain.program).replace("@", _sources(recipe, files, main))
    export = " && cat /tmp/out >&$1" if recipe.keeps else ""
    job = Job(
        argv=("bash", "-c", command + export, "bash", "{fd}"),
        limits=BUILD_LIMITS,
        files=files,
        mounts=toolchain.mounts,
        bound_address_space=False,
    )
    return run_job(job, isolation)


def _sources(recipe: Recipe, files: dict[str, str], main: str) -> str:
    """The files that the compiler is given: the main one first, then the others of its kind."""
    suffix = main[main.rfind(".") :]
    others = sorted(name for name in files if name != main and name.endswith(suffix)) if recipe.joins else []
    return " ".join(shlex.quote(name) for name in (main, *others))


def _fault(recipe: Recipe, report: RunReport) -> BuildFault | None:
    said = report.stderr.decode("utf-8", errors="replace")
    if report.rig_fault is not None:
        return BuildFault(end=RunEnd.RIG_FAULT, words=report.rig_fault, wall_s=report.wall_s)
    if report.timed_out:
        return BuildFault(end=RunEnd.TIMED_OUT, words="the build does not end", wall_s=report.wall_s)
    if report.over_limit is not None:
        return BuildFault(end=RunEnd.OVER_LIMIT, words=f"the build takes {report.over_limit}", wall_s=report.wall_s)
    if report.exit_status == 0:
        return None
    end = RunEnd.MISSING_MODULE if recipe.missing.search(said) else RunEnd.NO_BUILD
    # the first words of a compiler tell more than its last
    words = (
        shorten(said.strip(), ERROR_CHARS)
        or last_lines(report.stdout.decode(errors="replace"), 3)
        or "it does not build"
    )
    return BuildFault(end=end, words=words, wall_s=report.wall_s)
