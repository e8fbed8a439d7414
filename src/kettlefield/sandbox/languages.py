"""How each language's answers are run inside an isolation: the harness, its arguments, its needs."""

import json
from importlib import resources
from pathlib import Path
from typing import Any

from kettlefield.rig.packages import Packages
from kettlefield.rig.toolchains import Toolchain
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
