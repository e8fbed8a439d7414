"""The interpreters and compilers on this rig: where they really are, and their versions."""

import re
import shutil
import subprocess
import sys
from dataclasses import dataclass
from functools import cache
from pathlib import Path

LANGUAGES_KNOWN = ("python", "javascript")
PROBE_TIMEOUT_S = 20.0  # a version line takes milliseconds; a cold disk may take seconds


@dataclass(frozen=True, slots=True, kw_only=True)
class Toolchain:
    """One language's interpreter, ready to be run from inside an isolation."""

    language: str
    program: str  # the interpreter itself, never a version manager's shim: a shim costs 100 ms a start
    version: str
    mounts: tuple[str, ...]  # folders outside /usr that it needs to see


@dataclass(frozen=True, slots=True, kw_only=True)
class Missing:
    """A language that cannot be run here."""

    language: str
    remedy: str


@cache
def find_toolchain(language: str) -> Toolchain | Missing:
    """The toolchain of a language on this rig, or what would install it.

    Raises
    ------
    ValueError
        The language is none of ours.
    """
    probes = {"python": _python, "javascript": _javascript}
    if language not in probes:
        raise ValueError(f"language={language!r}: wanted one of {sorted(probes)}")
    return probes[language]()


def _python() -> Toolchain:
    # the base interpreter of whatever environment we run in: its standard library and nothing else
    program = Path(getattr(sys, "_base_executable", sys.executable)).resolve()
    version = ".".join(map(str, sys.version_info[:3]))
    return Toolchain(
        language="python", program=str(program), version=version, mounts=_outside_usr(Path(sys.base_prefix))
    )


def _javascript() -> Toolchain | Missing:
    remedy = "apt-get install nodejs"
    found = shutil.which("node")
    if found is None:
        return Missing(language="javascript", remedy=remedy)
    # asked of the program itself, so that a shim in front of it drops out
    line = _ask([found, "-p", "process.execPath + ' ' + process.versions.node"])
    match = re.fullmatch(r"(/.+) (\d+\.\d+\.\d+)", line)
    if match is None:
        return Missing(language="javascript", remedy=remedy)
    program = Path(match[1]).resolve()
    return Toolchain(
        language="javascript",
        program=str(program),
        version=match[2],
        mounts=_outside_usr(program.parent.parent),
    )


def _ask(command: list[str]) -> str:
    try:
        done = subprocess.run(command, capture_output=True, text=True, timeout=PROBE_TIMEOUT_S, check=False)
    except (OSError, subprocess.TimeoutExpired):
        return ""
    return done.stdout.strip()


def _outside_usr(folder: Path) -> tuple[str, ...]:
    resolved = folder.resolve()
    return () if resolved.is_relative_to("/usr") else (str(resolved),)
