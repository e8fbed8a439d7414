"""What a server's processes really loaded: executables, shared objects, scripts and packages, with digests."""

import contextlib
import hashlib
import json
import os
import shutil
import subprocess
from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import lru_cache
from pathlib import Path
from typing import Any

from kettlefield.core.errors import InputError
from kettlefield.weights.digests import weights_digest

GONE = "not there"
MOST_FILES = 20_000  # of one package
MOST_NAMED = 6  # packages beside the one that serves
PROBE_WITHIN_S = 20.0
_SOURCES = frozenset({".py", ".so", ".pyd", ".js", ".mjs", ".json"})
# asked of the server's own interpreter: where modules lie, and which distributions they are of
_PROBE = """
import importlib.metadata as m, importlib.util as u, json, sys
owners = m.packages_distributions()
found = []
for name in sys.argv[1:]:
    try:
        spec = u.find_spec(name)
    except (ImportError, ValueError):
        spec = None
    root = (list(spec.submodule_search_locations or []) or [spec.origin])[0] if spec else None
    if root in (None, "built-in", "frozen"):
        continue
    entry = {"module": name, "root": root}
    for owner in [*owners.get(name, []), name]:
        try:
            d = m.distribution(owner)
        except m.PackageNotFoundError:
            continue
        entry |= {"name": d.metadata["Name"], "version": d.version}
        record = next((str(f.locate()) for f in d.files or [] if f.name == "RECORD"), None)
        if record:
            entry["record"] = record
        break
    found.append(entry)
print(json.dumps(found))
"""
_IMPORTS = """
import ast, json, sys
tree = ast.parse(open(sys.argv[1], "rb").read())
names = {a.name.split(".")[0] for n in ast.walk(tree) if isinstance(n, ast.Import) for a in n.names}
names |= {n.module.split(".")[0] for n in ast.walk(tree) if isinstance(n, ast.ImportFrom) and n.module and not n.level}
print(json.dumps(sorted(names - set(sys.stdlib_module_names))))
"""


def loaded_by(pids: Iterable[int], *, apart_from: Iterable[Path] = ()) -> dict[str, Any]:
    """What some processes have loaded by now.

    Parameters
    ----------
    pids : iterable of int
        Those of one server.
    apart_from : iterable of Path
        Files with a digest of their own, as the weights.

    Returns
    -------
    dict
        ``files``: path -> SHA-256 of executables, mapped shared objects and scripts; ``programs``: the executables'
        paths, the first process's first; ``packages``: one entry a Python module that the command names, that its
        script imports, or that a mapped object is of, with its folder, the digest of its files and, of a
        distribution, name, version and the digest of its RECORD.
    """
    left_out = {str(path.resolve()) for path in apart_from}
    files: set[str] = set()
    programs: list[str] = []
    packages: dict[str, dict[str, Any]] = {}
    for pid in pids:
        program, mapped = _program(pid), _mapped(pid)
        files |= mapped | ({program} if program else set())
        programs += [program] if program else []
        words = _words(pid)
        if words and Path(words[0]).name.startswith("python"):
            script, modules = _python_of(words, _cwd(pid))
            if script is not None:
                files.add(str(script))
            for entry in _modules(pid, words[0], script, modules, mapped):
                packages.setdefault(entry["root"], {**entry, "serves": entry["module"] in modules})
    return {
        "files": {path: _digest(Path(path)) for path in sorted(files - left_out)},
        "programs": list(dict.fromkeys(programs)),
        "packages": [_digested(entry) for _, entry in sorted(packages.items())],
    }


def loaded_now(then: Mapping[str, Any]) -> dict[str, Any]:
    """The same files and packages as they are on this machine now; nothing is started for it."""
    return {
        "files": {path: _digest(Path(path)) for path in then.get("files", {})},
        "programs": list(then.get("programs", ())),
        "packages": [_digested(dict(entry)) for entry in then.get("packages", ())],
    }


def named(loaded: Mapping[str, Any] | None) -> str:
    """Server and version by what was loaded, in words: the package that serves, and those it uses; else its program."""
    held = loaded or {}
    known = [entry for entry in held.get("packages", ()) if entry.get("version")]
    serving = [f"{entry['name']} {entry['version']}" for entry in known if entry.get("serves")]
    others = [f"{entry['name']} {entry['version']}" for entry in known if not entry.get("serves")]
    if serving or others:
        more = f", and {len(others) - MOST_NAMED} more" if len(others) > MOST_NAMED else ""
        with_others = ", ".join(dict.fromkeys(others[:MOST_NAMED])) + more
        return f"{', '.join(serving)} with {with_others}" if serving and others else ", ".join(serving) or with_others
    program = next(iter(held.get("programs", ())), None)
    return f"{Path(program).name} (SHA-256 {held['files'].get(program, GONE)[:12]})" if program else ""


def _program(pid: int) -> str | None:
    with contextlib.suppress(OSError):
        return str(Path(f"/proc/{pid}/exe").readlink()).removesuffix(" (deleted)")
    return None


def _mapped(pid: int) -> set[str]:
    """Files that a process has mapped to run."""
    paths = set()
    with contextlib.suppress(OSError), Path(f"/proc/{pid}/maps").open(encoding="utf-8", errors="replace") as maps:
        for line in maps:
            parts = line.rstrip("\n").split(maxsplit=5)
            if len(parts) == 6 and "x" in parts[1] and parts[5].startswith("/"):
                paths.add(parts[5])
    return {path.removesuffix(" (deleted)") for path in paths}


def _words(pid: int) -> list[str]:
    with contextlib.suppress(OSError):
        data = Path(f"/proc/{pid}/cmdline").read_bytes()
        return [os.fsdecode(word) for word in data.split(b"\0")[:-1]]
    return []


def _cwd(pid: int) -> Path:
    with contextlib.suppress(OSError):
        return Path(f"/proc/{pid}/cwd").readlink()
    return Path("/")


def _python_of(words: list[str], folder: Path) -> tuple[Path | None, list[str]]:
    """The script that an interpreter runs, and the module that its command names."""
    rest = iter(words[1:])
    for word in rest:
        if word == "-m":
            return None, [next(rest, "").split(".")[0]]
        if word == "-c":
            return None, []
        if word in {"-W", "-X"}:
            next(rest, None)
        elif not word.startswith("-"):
            path = folder / word
            return (path if path.is_file() else None), []
    return None, []


def _modules(pid: int, program: str, script: Path | None, modules: list[str], mapped: set[str]) -> list[dict[str, Any]]:
    names = list(modules)
    if script is not None:
        names += _asked(pid, program, _IMPORTS, [str(script)])
    # packages of which an extension is mapped
    names += sorted({_top(path) for path in mapped if "/site-packages/" in path or "/dist-packages/" in path})
    wanted = [name for name in dict.fromkeys(names) if name.isidentifier()]
    answered = _asked(pid, program, _PROBE, wanted) if wanted else []
    return [dict(entry) for entry in answered if isinstance(entry, dict) and isinstance(entry.get("root"), str)]


def _top(path: str) -> str:
    return (
        path.replace("/dist-packages/", "/site-packages/").rpartition("/site-packages/")[2].split("/")[0].split(".")[0]
    )


def _asked(pid: int, program: str, code: str, words: list[str]) -> list[Any]:
    """What the server's interpreter says, with the search path that the server has."""
    answers: dict[str, str] = {}
    with contextlib.suppress(OSError):
        for pair in Path(f"/proc/{pid}/environ").read_bytes().split(b"\0"):
            if pair.startswith((b"PYTHONPATH=", b"PYTHONHOME=", b"VIRTUAL_ENV=")):
                name, _, value = os.fsdecode(pair).partition("=")
                answers[name] = value
    return _asked_once(program, code, tuple(words), _cwd(pid), tuple(sorted(answers.items())))


@lru_cache(maxsize=256)
def _asked_once(
    program: str, code: str, words: tuple[str, ...], folder: Path, more: tuple[tuple[str, str], ...]
) -> list[Any]:
    """Once for all candidates that one command serves: it takes a second or two."""
    env = {name: value for name, value in os.environ.items() if name != "PYTHONPATH"} | dict(more)
    with contextlib.suppress(OSError, ValueError, subprocess.SubprocessError):
        done = subprocess.run(
            [program, "-c", code, *words],
            capture_output=True,
            cwd=folder,
            env=env,
            timeout=PROBE_WITHIN_S,
            check=True,
            stdin=subprocess.DEVNULL,
        )
        said = json.loads(done.stdout)
        return said if isinstance(said, list) else []
    return []


def _digested(entry: dict[str, Any]) -> dict[str, Any]:
    entry["sha256"] = _tree_digest(Path(entry["root"]))
    if "record" in entry:
        entry["record_sha256"] = _digest(Path(entry["record"]))
    return entry


def _tree_digest(root: Path) -> str:
    """One digest over a module's file, or over every source and shared object below its folder."""
    if root.is_file():
        return _digest(root)
    paths = sorted(_sources_below(str(root)), key=lambda path: path.split("/"))
    if not paths:
        return GONE
    whole = hashlib.sha256()
    for path in paths[:MOST_FILES]:
        whole.update(f"{path}\0{_digest(root / path)}\n".encode("utf-8", "surrogateescape"))
    return whole.hexdigest()


def _sources_below(root: str) -> Iterator[str]:
    """Their paths below ``root``; links to folders are not followed.

    Strings and one look at each entry, not ``Path``: a look at thousands of files takes place while a server is timed,
    and must not take the processor from the clock's thread.
    """
    for folder, below, names in os.walk(root):
        below[:] = [name for name in below if name != "__pycache__"]
        for name in names:
            path = os.path.join(folder, name)  # noqa: PTH118
            if os.path.splitext(name)[1] in _SOURCES and os.path.isfile(path):  # noqa: PTH122, PTH113
                yield path[len(root) + 1 :]


def _digest(path: Path) -> str:
    try:
        seen = path.stat()
        return _digest_of(str(path), seen.st_dev, seen.st_ino, seen.st_size, seen.st_mtime_ns)
    except OSError:
        return GONE


@lru_cache(maxsize=100_000)
def _digest_of(path: str, _device: int, _inode: int, _size_bytes: int, _changed_ns: int) -> str:
    """Of one state of a file: the next candidate's server has loaded the same ones."""
    with Path(path).open("rb") as file:
        return hashlib.file_digest(file, "sha256").hexdigest()


def digest_programs(command: Sequence[str], folder: Path, *, apart_from: Sequence[Path] = ()) -> dict[str, str]:
    """The SHA-256 of the command's program and of every other file that it names, such as a script.

    Parameters
    ----------
    command : sequence of str
        Its words, filled in.
    folder : Path
        What relative paths are relative to.
    apart_from : sequence of Path
        Files that have a digest of their own, as the weights.

    Returns
    -------
    dict
        Path as written -> digest in hexadecimal; what cannot be read is left out.
    """
    left_out = {path.resolve() for path in apart_from}
    digests = {}
    for number, word in enumerate(command):
        path = folder / word
        if number == 0 and not path.is_file():
            path = Path(shutil.which(word) or word)
        if not path.is_file() or path.resolve() in left_out:
            continue
        try:
            digests[str(path)] = weights_digest(path.resolve())
        except InputError:
            continue  # a file that we may not read; the server may
    return digests
