"""What is remembered of this host between runs: facts as JSON, and files that took long to make.

A cache that cannot be read or written is no fault: what was in it is found out, or made, again.
"""

import contextlib
import hashlib
import json
import os
from pathlib import Path
from typing import Any

MOST_REMEMBERED = 1000  # of one kind; files that are long gone leave no trace of their own
MOST_FILES = 8  # of one kind: some tens of MiB each


def recall(name: str, key: str) -> Any:
    """What was remembered under a key, or None."""
    return _read(name).get(key)


def recall_all(name: str) -> dict[str, Any]:
    """All that is remembered of one kind, by key."""
    return _read(name)


def remember(name: str, key: str, value: Any) -> None:
    """Remember plain data under a key."""
    path = _folder() / f"{name}.json"
    held = _read(name)
    held.pop(key, None)
    latest = dict(list(held.items())[1 - MOST_REMEMBERED :])
    _write(path, json.dumps({**latest, key: value}).encode())


def recall_file(name: str, key: str) -> bytes | None:
    """The file that was remembered under a key, or None; one that is not whole is none."""
    with contextlib.suppress(OSError):
        digest, _, content = _file(name, key).read_bytes().partition(b"\n")
        if digest == hashlib.sha256(content).hexdigest().encode():
            return content
    return None


def remember_file(name: str, key: str, content: bytes) -> None:
    """Remember a file under a key; the oldest of its kind goes where there are many."""
    path = _file(name, key)
    _write(path, hashlib.sha256(content).hexdigest().encode() + b"\n" + content)
    with contextlib.suppress(OSError):
        for old in sorted(path.parent.iterdir(), key=lambda one: one.stat().st_mtime)[:-MOST_FILES]:
            old.unlink()


def _folder() -> Path:
    return Path(os.environ.get("XDG_CACHE_HOME") or str(Path.home() / ".cache")) / "kettlefield"


def _file(name: str, key: str) -> Path:
    return _folder() / name / hashlib.sha256(key.encode()).hexdigest()


def _write(path: Path, content: bytes) -> None:
    """At once or not at all: several runs may write."""
    with contextlib.suppress(OSError):
        path.parent.mkdir(parents=True, exist_ok=True)
        fresh = path.with_name(f"{path.stem}.{os.getpid()}")
        fresh.write_bytes(content)
        fresh.replace(path)


def _read(name: str) -> dict[str, Any]:
    with contextlib.suppress(OSError, ValueError):
        data = json.loads((_folder() / f"{name}.json").read_text(encoding="utf-8"))
        if isinstance(data, dict):
            return data
    return {}
