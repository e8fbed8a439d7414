"""Interpreters, compilers and packages on this rig: where they are, and their versions."""

import re
import shutil
import subprocess
import sys
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from importlib import metadata
from pathlib import Path

from packaging.requirements import Requirement

from kettlefield.core.languages import PAGE


@dataclass(frozen=True, slots=True, kw_only=True)
class Packages:
    """Declared packages with all that they need, as they are installed beside us."""

    versions: tuple[tuple[str, str], ...]  # of those declared
    mounts: tuple[str, ...]  # files and folders to be seen from inside an isolation
    search: tuple[str, ...]  # folders in which to look for them


@cache
def find_packages(names: tuple[str, ...]) -> Packages | str:
    """The packages of those names, or the name of the first that is missing.

    Parameters
    ----------
    names : tuple of str
        Distribution names, such as "pandas".
    """
    found: dict[str, metadata.Distribution] = {}
    wanted = list(names)
    while wanted:
        name = _plain(wanted.pop())
        if name in found:
            continue
        try:
            found[name] = metadata.distribution(name)
        except metadata.PackageNotFoundError:
            return name
        wanted += _needs(found[name])
    paths = sorted({path for distribution in found.values() for path in _top_level(distribution)})
    return Packages(
        versions=tuple((name, found[_plain(name)].version) for name in names),
        mounts=tuple(map(str, paths)),
        search=tuple(sorted({str(path.parent) for path in paths})),
    )


def _plain(name: str) -> str:
    return name.lower().replace("_", "-")


def _needs(distribution: metadata.Distribution) -> list[str]:
    requirements = map(Requirement, distribution.requires or [])
    return [need.name for need in requirements if need.marker is None or need.marker.evaluate({"extra": ""})]


def _top_level(distribution: metadata.Distribution) -> list[Path]:
    """What a distribution lays into its site folder: packages, single modules and libraries, no scripts."""
    tops = {file.parts[0] for file in distribution.files or [] if file.parts[0] not in {"..", "__pycache__"}}
    return [
        path
        for top in tops
        if (path := Path(str(distribution.locate_file(top)))).exists() and not top.endswith(".dist-info")
    ]


# the program that draws nothing but pages starts sooner and in less memory than the one with a window
_BROWSERS = (
    "/usr/lib/chromium/chromium-headless-shell",
    "chromium-headless-shell",
    "/usr/lib/chromium/chromium",
    "chromium",
)
DRIVER = "playwright"  # leads the browser that pages are opened in
PROBE_TIMEOUT_S = 20.0  # a version line takes milliseconds; a cold disk may take seconds


@dataclass(frozen=True, slots=True, kw_only=True)
class Toolchain:
    """One language's interpreter or compiler, ready to be run from inside an isolation."""

    language: str
    program: str  # the program itself, never a version manager's shim: a shim costs 100 ms a start
    version: str
    mounts: tuple[str, ...] = ()  # folders outside /usr that it needs to see


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
    if language not in _PROBES:
        raise ValueError(f"language={language!r}: wanted one of {sorted(_PROBES)}")
    return _PROBES[language]()


def _python() -> Toolchain:
    # the base interpreter of whatever environment we run in: its standard library and nothing else
    program = Path(getattr(sys, "_base_executable", sys.executable)).resolve()
    version = ".".join(map(str, sys.version_info[:3]))
    mounts = _outside_usr(Path(sys.base_prefix))
    return Toolchain(language="python", program=str(program), version=version, mounts=mounts)


def _javascript() -> Toolchain | Missing:
    # asked of the program itself, so that a shim in front of it drops out
    found = shutil.which("node")
    line = _ask([found, "-p", "process.execPath + ' ' + process.versions.node"]) if found else ""
    match = re.fullmatch(r"(/.+) (\d+\.\d+\.\d+)", line)
    if match is None:
        return Missing(language="javascript", remedy="apt-get install nodejs")
    program = Path(match[1]).resolve()
    mounts = _outside_usr(program.parent.parent)
    return Toolchain(language="javascript", program=str(program), version=match[2], mounts=mounts)


def _rust() -> Toolchain | Missing:
    missing = Missing(language="rust", remedy="apt-get install rustc")
    found = shutil.which("rustc")
    sysroot = _ask([found, "--print", "sysroot"]) if found else ""
    program = Path(sysroot, "bin", "rustc")  # behind a version manager's shim, if there is one
    match = re.match(r"rustc (\S+)", _ask([str(program), "--version"])) if sysroot and program.is_file() else None
    if match is None or shutil.which("cc") is None:
        return missing
    return Toolchain(language="rust", program=str(program), version=match[1], mounts=_outside_usr(Path(sysroot)))


def _java() -> Toolchain | Missing:
    found = shutil.which("javac")
    match = re.match(r"javac (\S+)", _ask([found, "-version"])) if found else None
    if found is None or match is None:
        return Missing(language="java", remedy="apt-get install default-jdk-headless")
    home = Path(found).resolve().parent.parent
    settings = tuple(
        str(folder) for folder in sorted(Path("/etc").glob("java-*"))
    )  # the runtime's own, linked from /usr
    return Toolchain(
        language="java", program=str(home / "bin" / "javac"), version=match[1], mounts=(*_outside_usr(home), *settings)
    )


def _go() -> Toolchain | Missing:
    found = shutil.which("go")
    match = re.search(r"go(\d+\.\d+(?:\.\d+)?)", _ask([found, "version"])) if found else None
    root = _ask([found, "env", "GOROOT"]) if found else ""
    if match is None or not root:
        return Missing(language="go", remedy="apt-get install golang-go")
    program = Path(root, "bin", "go").resolve()
    return Toolchain(language="go", program=str(program), version=match[1], mounts=_outside_usr(Path(root)))


def _one_version(language: str, program: str, pattern: str, package: str) -> Callable[[], Toolchain | Missing]:
    """A probe for a program that is what it seems and tells its version when asked."""

    def probe() -> Toolchain | Missing:
        found = shutil.which(program)
        match = re.search(pattern, _ask([found, "--version"])) if found else None
        if found is None or match is None:
            return Missing(language=language, remedy=f"apt-get install {package}")
        real = Path(found).resolve()
        return Toolchain(language=language, program=str(real), version=match[1], mounts=_outside_usr(real.parent))

    return probe


def _html() -> Toolchain | Missing:
    # the program itself: what is on the path may be a script around it that reads the user's settings
    found = next(filter(None, map(shutil.which, _BROWSERS)), None)
    match = re.search(r"(\d+(?:\.\d+){2,3})", _ask([found, "--version"])) if found else None
    if found is None or match is None:
        return Missing(language=PAGE, remedy="apt-get install chromium")
    if isinstance(find_packages((DRIVER,)), str):
        return Missing(language=PAGE, remedy="pip install 'kettlefield[pages]'")
    program = Path(found).resolve()
    fonts = tuple(str(folder) for folder in (Path("/etc/fonts"),) if folder.is_dir())
    return Toolchain(
        language=PAGE, program=str(program), version=match[1], mounts=(*_outside_usr(program.parent), *fonts)
    )


_PROBES: dict[str, Callable[[], Toolchain | Missing]] = {
    "python": _python,
    "javascript": _javascript,
    "c": _one_version("c", "gcc", r"(\d+\.\d+\.\d+)\s*$", "gcc libc6-dev"),
    "cpp": _one_version("cpp", "g++", r"(\d+\.\d+\.\d+)\s*$", "g++"),
    "rust": _rust,
    "java": _java,
    "go": _go,
    "bash": _one_version("bash", "bash", r"version (\d+\.\d+\.\d+)", "bash"),
    "sql": _one_version("sql", "sqlite3", r"(\d+\.\d+\.\d+)", "sqlite3"),
    PAGE: _html,
}
LANGUAGES_KNOWN = tuple(_PROBES)


def _ask(command: list[str]) -> str:
    try:
        done = subprocess.run(command, capture_output=True, text=True, timeout=PROBE_TIMEOUT_S, check=False)
    except (OSError, subprocess.TimeoutExpired):
        return ""
    return done.stdout.strip().split("\n", 1)[0].strip()


def _outside_usr(folder: Path) -> tuple[str, ...]:
    resolved = folder.resolve()
    return () if resolved.is_relative_to("/usr") else (str(resolved),)
