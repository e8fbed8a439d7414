"""How each language's answers are run inside an isolation: the harness, its arguments, its needs."""

from importlib import resources
from pathlib import Path

from kettlefield.rig.toolchains import Toolchain
from kettlefield.sandbox.job import Job, RunLimits

HARNESS = Path(str(resources.files("kettlefield.sandbox") / "harness"))
_HARNESS_DIR = ".harness"  # beside the answer; every isolation starts a run in the folder that holds both
# -S -s -E: the standard library and nothing else; -B: no byte code into a folder that is read-only
_PYTHON_FLAGS = ("-S", "-s", "-E", "-B")


def calls_job(toolchain: Toolchain, files: dict[str, str], stdin: bytes, limits: RunLimits) -> Job:
    """A job that calls a function of the answer once for each case on its standard input."""
    if toolchain.language == "python":
        return _job(toolchain, files, ("calls.py",), ("calls.py", "{fd}"), stdin, limits)
    return _job(toolchain, files, ("harness.mjs",), ("harness.mjs", "calls", "{fd}"), stdin, limits)


def script_job(
    toolchain: Toolchain, files: dict[str, str], words: tuple[str, ...], stdin: bytes, limits: RunLimits
) -> Job:
    """A job that runs a Python or JavaScript answer as a program, through the harness that tells build errors apart.

    ``words`` are the nonce, the answer's file and the program's own arguments.
    """
    if toolchain.language == "python":
        return _job(toolchain, files, ("program.py",), ("program.py", "{fd}", *words), stdin, limits)
    return _job(toolchain, files, ("harness.mjs",), ("harness.mjs", "program", "{fd}", *words), stdin, limits)


def _job(
    toolchain: Toolchain,
    files: dict[str, str],
    needed: tuple[str, ...],
    command: tuple[str, ...],
    stdin: bytes,
    limits: RunLimits,
) -> Job:
    is_python = toolchain.language == "python"
    # the collector must know its limit: the runtime reserves far more address space than it uses
    heap_mib = max(16, limits.memory_bytes // 2**20 - 64)
    flags = _PYTHON_FLAGS if is_python else (f"--max-old-space-size={heap_mib}", "--no-warnings")
    harness = {f"{_HARNESS_DIR}/{name}": (HARNESS / name).read_text(encoding="utf-8") for name in needed}
    return Job(
        argv=(toolchain.program, *flags, f"{_HARNESS_DIR}/{command[0]}", *command[1:]),
        limits=limits,
        files={**files, **harness},
        stdin=stdin,
        mounts=toolchain.mounts,
        bound_address_space=is_python,
    )
