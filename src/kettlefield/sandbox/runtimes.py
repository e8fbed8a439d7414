"""How each language's answers, and pages, are run in isolation: the harness, its arguments, its needs."""

import json
from collections.abc import Mapping, Sequence
from importlib import resources
from pathlib import Path
from typing import Any

from kettlefield.rig.toolchains import Packages, Toolchain
from kettlefield.sandbox.job import Job, RunLimits

HARNESS = Path(str(resources.files("kettlefield.sandbox") / "harness"))
HARNESS_DIR = ".harness"  # beside the answer; every isolation starts a run in the folder that holds both
# -S -s -E: the standard library and nothing else; -B: no byte code into a folder that is read-only
PYTHON_FLAGS = ("-S", "-s", "-E", "-B")
# one thread: a numeric library that starts one a processor reserves address space for each
_ONE_THREAD = {name: "1" for name in ("OPENBLAS_NUM_THREADS", "OMP_NUM_THREADS", "MKL_NUM_THREADS")}


def calls_job(
    toolchain: Toolchain, files: dict[str, str], order: dict[str, Any], limits: RunLimits, packages: Packages | None
) -> Job:
    """A job that calls a function of the answer once for each case of an order, as the harness reads it."""
    stdin = json.dumps(order).encode()
    if toolchain.language == "python":
        return _job(toolchain, files, ("calls.py", "{fd}"), stdin, limits, packages)
    return _job(toolchain, files, ("harness.mjs", "calls", "{fd}"), stdin, limits, None)


def script_job(
    toolchain: Toolchain,
    files: dict[str, str],
    words: tuple[str, ...],
    stdin: bytes,
    limits: RunLimits,
    packages: Packages | None,
) -> Job:
    """A job that runs a Python or JavaScript answer as a program, through the harness that tells build errors apart.

    ``words`` are the nonce, the answer's file and the program's own arguments.
    """
    if toolchain.language == "python":
        return _job(toolchain, files, ("program.py", "{fd}", *words), stdin, limits, packages)
    return _job(toolchain, files, ("harness.mjs", "program", "{fd}", *words), stdin, limits, None)


def tool_job(toolchain: Toolchain, files: dict[str, str], words: tuple[str, ...], limits: RunLimits) -> Job:
    """A job that runs a Python program of an exercise's own; ``words`` are its file and its arguments."""
    return Job(
        argv=(toolchain.program, *PYTHON_FLAGS, *words),
        limits=limits,
        files=files,
        mounts=toolchain.mounts,
        result_fd=False,
    )


def _job(
    toolchain: Toolchain,
    files: dict[str, str],
    command: tuple[str, ...],
    stdin: bytes,
    limits: RunLimits,
    packages: Packages | None,
) -> Job:
    is_python = toolchain.language == "python"
    # the collector must know its limit: the runtime reserves far more address space than it uses
    heap_mib = max(16, limits.memory_bytes // 2**20 - 64)
    flags = PYTHON_FLAGS if is_python else (f"--max-old-space-size={heap_mib}", "--no-warnings")
    harness = {f"{HARNESS_DIR}/{command[0]}": (HARNESS / command[0]).read_text(encoding="utf-8")}
    return Job(
        argv=(toolchain.program, *flags, f"{HARNESS_DIR}/{command[0]}", *command[1:]),
        limits=limits,
        files={**files, **harness},
        stdin=stdin,
        mounts=(*toolchain.mounts, *(packages.mounts if packages is not None else ())),
        env={"PACKAGES": ":".join(packages.search), **_ONE_THREAD} if packages is not None else {},
        bound_address_space=is_python,
    )


BROWSER_BYTES = 2**30  # what the browser and its driver take before any page
RUN_S = 120.0  # all visits of one answer together; one step is bounded by the harness, far below this
_PROGRAM, _INVENTORY = "page.py", "inventory.js"


def page_job(
    browser: Toolchain,
    python: Toolchain,
    driver: Packages,
    answers: Sequence[Mapping[str, str]],
    order: dict[str, Any],
    page_bytes: int,
) -> Job:
    """A job that opens the page of an order and carries its visits out.

    Parameters
    ----------
    browser, python : Toolchain
        Chromium, and the interpreter that its driver runs in.
    driver : Packages
        The package that leads the browser.
    answers : sequence of mapping
        Of each answer its page's files by name; answers that share a run are not shut off from each other.
    order : dict
        As the harness reads it; its expectations stay outside.
    page_bytes : int
        What the page may take beside the browser itself.
    """
    files = {f"{number}/{name}": text for number, answer in enumerate(answers) for name, text in answer.items()}
    harness = {f"{HARNESS_DIR}/{name}": (HARNESS / name).read_text(encoding="utf-8") for name in (_PROGRAM, _INVENTORY)}
    return Job(
        argv=(python.program, *PYTHON_FLAGS, f"{HARNESS_DIR}/{_PROGRAM}", "{fd}"),
        limits=RunLimits(
            wall_s=RUN_S * len(answers),
            cpu_s=RUN_S * len(answers),
            memory_bytes=BROWSER_BYTES + page_bytes,
            output_bytes=2**20,
            processes=1024,  # threads count, and a browser has some hundred
            scratch_bytes=256 * 2**20,
        ),
        files={**files, **harness},
        stdin=json.dumps({**order, "browser": browser.program, "files": sorted(files)}).encode(),
        mounts=(*python.mounts, *browser.mounts, *driver.mounts),
        env={"PACKAGES": ":".join(driver.search)},
        bound_address_space=False,
    )
