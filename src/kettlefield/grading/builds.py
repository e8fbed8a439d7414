"""Answers made ready to run: scripts as they are, compiled languages built once in isolation.

A build runs in an isolation of its own. What it makes comes out over the private descriptor and is laid into
each run, so nothing that a compiler was made to write elsewhere survives.
"""

import json
import shlex
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import msgspec

from kettlefield.core.outcome import RunEnd
from kettlefield.core.plaintext import last_lines, shorten
from kettlefield.grading.kept import Kept
from kettlefield.languages.all_languages import LANGUAGES
from kettlefield.languages.language import PREPARED, Harness, Language, Preparation, Recipe, Toolchain
from kettlefield.languages.packages import Packages
from kettlefield.rig.remembered import recall_file, remember_file
from kettlefield.sandbox.job import Job, RunLimits, RunReport
from kettlefield.sandbox.runner import Sandbox

BUILD_LIMITS = RunLimits(
    wall_s=90,
    cpu_s=90,
    memory_bytes=3 * 2**30,
    output_bytes=2**20,
    processes=128,
    file_bytes=256 * 2**20,
    scratch_bytes=512 * 2**20,
)
PREPARATIONS = "preparations"  # of compilers, as they are remembered
PREPARATION_LIMITS = msgspec.structs.replace(BUILD_LIMITS, results_bytes=160 * 2**20)  # a compiler with all its classes
ERROR_CHARS = 1200  # of a compiler's message
HARNESS_DIR = ".harness"  # beside the answer; every isolation starts a run in the folder that holds both
HARNESS_MIB = 64  # of a run's memory, what a collected runtime takes beside its heap
VIRTUAL_MACHINE_MIB = 96  # the same for a built program that brings a virtual machine
MIN_HEAP_MIB = 16
# one thread: a numeric library that starts one a processor reserves address space for each
_ONE_THREAD = {name: "1" for name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS")}


class Built(msgspec.Struct, frozen=True, kw_only=True):
    """An answer ready to run."""

    toolchain: Toolchain
    files: Mapping[str, str | bytes]
    main: str
    packages: Packages | None = None  # declared by the exercise, seen by the answer
    sanitised: bool = False  # built the second way, which says itself what it must not do

    @property
    def language(self) -> Language:
        """What it is written in."""
        return LANGUAGES[self.toolchain.language]

    @property
    def texts(self) -> dict[str, str]:
        """Its source files."""
        return {name: content for name, content in self.files.items() if isinstance(content, str)}

    def calls_job(self, order: dict[str, Any], limits: RunLimits) -> Job:
        """One run of the harness that calls a function of it once for each case of an order.

        Raises
        ------
        ValueError
            Functions of this language cannot be called one by one.
        """
        harness = self.language.harness
        if harness is None:
            raise ValueError(f"language={self.language.name!r}: its functions cannot be called one by one")
        return self._harness_job(harness, harness.calls, json.dumps(order).encode(), limits)

    def job(self, nonce: str, stdin: bytes, args: tuple[str, ...], limits: RunLimits) -> Job:
        """One run of it as a program; the harness, where there is one, says when it does not even parse."""
        harness, recipe = self.language.harness, self.language.recipe
        if harness is not None:
            return self._harness_job(harness, (*harness.program, nonce, self.main, *args), stdin, limits)
        if recipe is None:
            raise ValueError(f"language={self.language.name!r}: nothing of it is run")
        heap_mib = max(MIN_HEAP_MIB, limits.memory_bytes // 2**20 - VIRTUAL_MACHINE_MIB)
        stem = self.main.rsplit(".", 1)[0]
        words = (w.replace("@", self.main).replace("PROGRAM", self.toolchain.program) for w in recipe.run)
        return Job(
            argv=(*(word.format(heap_mib=heap_mib, stem=stem) for word in words), *args),
            limits=limits,
            files=self.files,
            stdin=stdin,
            mounts=self.toolchain.mounts,
            env=recipe.sanitiser.env if self.sanitised and recipe.sanitiser is not None else {},
            bound_address_space=recipe.bound_address_space and not self.sanitised,
            result_fd=False,
        )

    def _harness_job(self, harness: Harness, command: tuple[str, ...], stdin: bytes, limits: RunLimits) -> Job:
        packages = self.packages if harness.takes_packages else None
        heap_mib = max(MIN_HEAP_MIB, limits.memory_bytes // 2**20 - HARNESS_MIB)
        program = (harness.folder / command[0]).read_text(encoding="utf-8")
        return Job(
            argv=(
                self.toolchain.program,
                *(flag.format(heap_mib=heap_mib) for flag in harness.flags),
                f"{HARNESS_DIR}/{command[0]}",
                *command[1:],
            ),
            limits=limits,
            files={**self.texts, f"{HARNESS_DIR}/{command[0]}": program},
            stdin=stdin,
            mounts=(*self.toolchain.mounts, *(packages.mounts if packages is not None else ())),
            env={"PACKAGES": ":".join(packages.search), **_ONE_THREAD} if packages is not None else {},
            bound_address_space=harness.bound_address_space,
        )

    def end_of(self, report: RunReport) -> RunEnd | None:
        """What a run's own message says of its end, for languages without a harness; None when it says nothing."""
        recipe = self.language.recipe
        if recipe is None or report.exit_status == 0:
            return None
        said = report.stderr.decode("utf-8", errors="replace")
        if recipe.syntax is not None and recipe.syntax.search(said):
            return RunEnd.NO_BUILD
        return RunEnd.MISSING_MODULE if recipe.missing.search(said) else None


class BuildFault(msgspec.Struct, frozen=True, kw_only=True):
    """Why an answer could not be built."""

    end: RunEnd
    message: str
    wall_s: float


def build_answer(
    toolchain: Toolchain,
    files: dict[str, str],
    main: str,
    sandbox: Sandbox,
    kept: Kept,
    packages: Packages | None = None,
    *,
    sanitised: bool = False,
) -> Built | BuildFault:
    """Make an answer ready to run; compiled languages are built once, whatever number of runs follows.

    Parameters
    ----------
    toolchain : Toolchain
        Of the answer's language.
    files : dict
        File name to text.
    main : str
        The file that is built and run.
    sandbox : Sandbox
        Where the build runs.
    kept : Kept
        Earlier builds: the same answer comes again from a neighbouring level, another sample, or a check that
        compares with the own answer.
    packages : Packages, optional
        Declared by the exercise.
    sanitised : bool
        Build with the language's sanitiser, which it must have.

    Raises
    ------
    RigError
        The host has no room or no right to run the build.
    """
    recipe = LANGUAGES[toolchain.language].recipe
    if recipe is None or recipe.build is None:
        return Built(toolchain=toolchain, files=files, main=main, packages=packages)
    way = recipe.sanitiser if sanitised and recipe.sanitiser is not None else recipe
    line = way.build or recipe.build
    key = build_key(toolchain, line, files, main)

    def build() -> bytes | BuildFault:
        command = line.replace("@", _sources(recipe, files, main))
        prepared = _prepare(toolchain, way.preparation, sandbox, kept)
        report = run_compiler(toolchain, command, {**files, **prepared}, sandbox, export=recipe.keeps is not None)
        return _fault(recipe, report) or report.results

    made = kept.once(key, build, keep=lambda made: isinstance(made, bytes))
    if isinstance(made, BuildFault):
        return made
    program: dict[str, str | bytes] = {recipe.keeps: made} if recipe.keeps else {}
    return Built(toolchain=toolchain, files={**files, **program}, main=main, packages=packages, sanitised=sanitised)


def build_key(toolchain: Toolchain, line: str, files: Mapping[str, str], main: str) -> tuple[object, ...]:
    """Everything that what a build makes depends on."""
    return ("build", toolchain, line, main, tuple(sorted(files.items())))


def _prepare(
    toolchain: Toolchain, preparation: Preparation | None, sandbox: Sandbox, kept: Kept
) -> dict[str, str | bytes]:
    """What each build of a language finds beside its files; nothing where the language wants nothing, or it failed."""
    if preparation is None:
        return {}

    # of this host's compiler as it is: a compiler looks itself whether what was prepared fits it
    key = repr((toolchain, _state_of(toolchain.program), preparation, sandbox.isolation.name))

    def prepare() -> bytes:
        known = recall_file(PREPARATIONS, key)
        if known is not None:
            return known
        report = run_compiler(
            toolchain, preparation.line, dict(preparation.files), sandbox, export=True, limits=PREPARATION_LIMITS
        )
        made = report.results if report.exit_status == 0 and report.rig_fault is None else b""
        if made:
            remember_file(PREPARATIONS, key, made)
        return made

    made = kept.always(("prepared", toolchain, preparation.line), prepare)
    return {PREPARED: made} if made else {}


def _state_of(program: str) -> tuple[int, int]:
    """What differs when a program, or the folder of one, is replaced."""
    try:
        stat = Path(program).stat()
    except OSError:
        return (0, 0)
    return (stat.st_size, stat.st_mtime_ns)


def run_compiler(
    toolchain: Toolchain,
    line: str,
    files: dict[str, str | bytes],
    sandbox: Sandbox,
    *,
    export: bool,
    limits: RunLimits = BUILD_LIMITS,
) -> RunReport:
    """Run a compiler's line in isolation; what it leaves in /tmp/out comes out where that is asked for."""
    command = line.replace("PROGRAM", toolchain.program) + (" && cat /tmp/out >&$1" if export else "")
    job = Job(
        argv=("bash", "-c", command, "bash", "{fd}"),
        limits=limits,
        files=files,
        mounts=toolchain.mounts,
        bound_address_space=False,
    )
    return sandbox.run(job)


def _sources(recipe: Recipe, files: dict[str, str], main: str) -> str:
    """The files that the compiler is given: the main one first, then the others of its kind."""
    suffix = main[main.rfind(".") :]
    others = sorted(name for name in files if name != main and name.endswith(suffix)) if recipe.joins else []
    return " ".join(shlex.quote(name) for name in (main, *others))


def _fault(recipe: Recipe, report: RunReport) -> BuildFault | None:
    said = report.stderr.decode("utf-8", errors="replace")
    if report.rig_fault is not None:
        return BuildFault(end=RunEnd.RIG_FAULT, message=report.rig_fault, wall_s=report.wall_s)
    if report.timed_out:
        return BuildFault(end=RunEnd.TIMED_OUT, message="the build does not end", wall_s=report.wall_s)
    if report.over_limit is not None:
        return BuildFault(end=RunEnd.OVER_LIMIT, message=f"the build takes {report.over_limit}", wall_s=report.wall_s)
    if report.exit_status == 0:
        return None
    end = RunEnd.MISSING_MODULE if recipe.missing.search(said) else RunEnd.NO_BUILD
    # the beginning of a compiler's message says more than its end
    message = (
        shorten(said.strip(), ERROR_CHARS)
        or last_lines(report.stdout.decode(errors="replace"), 3)
        or "it does not build"
    )
    return BuildFault(end=end, message=message, wall_s=report.wall_s)
