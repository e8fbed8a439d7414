"""The digest that fixes a suite, and the lock file that says what it must be."""

import hashlib
from pathlib import Path

import tomli_w

from kettlefield.core.errors import InputError
from kettlefield.suite.typed_toml import read_toml

LOCK_NAME = "suite.lock"


def suite_files(folder: Path) -> list[Path]:
    """Every file that belongs to a suite, in a fixed order; hidden files, caches and the lock do not.

    Raises
    ------
    InputError
        A link is among them: what it points to could change without the digest knowing.
    """
    found = []
    for path in sorted(folder.rglob("*")):
        parts = path.relative_to(folder).parts
        if any(part.startswith(".") or part == "__pycache__" for part in parts) or parts == (LOCK_NAME,):
            continue
        if path.is_symlink():
            raise InputError("is a link", str(path), "A suite holds plain files only, so that its digest fixes it.")
        if path.is_file():
            found.append(path)
    return found


def exercise_digests(folder: Path) -> dict[str, str]:
    """For each top-level entry of a suite (an exercise's folder, or a file) the digest of what it holds."""
    hashes: dict[str, hashlib._Hash] = {}
    for path in suite_files(folder):
        relative = path.relative_to(folder)
        content = path.read_bytes()
        entry = hashes.setdefault(relative.parts[0], hashlib.sha256())
        # lengths first, so that no two different trees feed the same bytes
        entry.update(f"{relative.as_posix()}\0{len(content)}\0".encode())
        entry.update(content)
    return {name: f"sha256:{digest.hexdigest()}" for name, digest in hashes.items()}


def combine(digests: dict[str, str]) -> str:
    """One digest over the entries' digests."""
    text = "".join(f"{name}\0{digests[name]}\n" for name in sorted(digests))
    return f"sha256:{hashlib.sha256(text.encode()).hexdigest()}"


def write_lock(folder: Path) -> str:
    """Write the lock of a suite as it is now, and return its digest."""
    digests = exercise_digests(folder)
    digest = combine(digests)
    (folder / LOCK_NAME).write_text(tomli_w.dumps({"digest": digest, "entries": digests}), encoding="utf-8")
    return digest


def lock_faults(folder: Path, digests: dict[str, str]) -> list[str]:
    """What differs between a suite and its lock, one line an entry; nothing when there is no lock."""
    path = folder / LOCK_NAME
    if not path.exists():
        return []
    locked = read_toml(path).get("entries", {})
    names = sorted(set(locked) | set(digests))
    return [
        f"{name} was {_difference(name, locked, digests)} since the suite was locked"
        for name in names
        if locked.get(name) != digests.get(name)
    ]


def _difference(name: str, locked: dict[str, str], digests: dict[str, str]) -> str:
    if name not in locked:
        return "added"
    return "removed" if name not in digests else "changed"
