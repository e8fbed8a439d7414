"""Small facts that are costly to find, remembered between runs in the user's cache folder."""

import contextlib
import json
import os
from pathlib import Path
from typing import Any


def recall(name: str, key: str) -> Any:
    """What was remembered under a key, or None."""
    return _read(name).get(key)


def recall_all(name: str) -> dict[str, Any]:
    """All that is remembered of one kind, by key."""
    return _read(name)


def remember(name: str, key: str, value: Any) -> None:
    """Remember plain data; a cache that cannot be written is no fault: it is found out again next time."""
    path = _path(name)
    with contextlib.suppress(OSError):
        path.parent.mkdir(parents=True, exist_ok=True)
        fresh = path.with_suffix(f".{os.getpid()}")
        fresh.write_text(json.dumps({**_read(name), key: value}), encoding="utf-8")
        fresh.replace(path)


def _path(name: str) -> Path:
    base = os.environ.get("XDG_CACHE_HOME") or str(Path.home() / ".cache")
    return Path(base) / "kettlefield" / f"{name}.json"


def _read(name: str) -> dict[str, Any]:
    with contextlib.suppress(OSError, ValueError):
        data = json.loads(_path(name).read_text(encoding="utf-8"))
        if isinstance(data, dict):
            return data
    return {}
