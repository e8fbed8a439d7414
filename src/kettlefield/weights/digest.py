"""SHA-256 of weights files, remembered by path, size and time of change: they are read once, not every run."""

import contextlib
import hashlib
import json
import os
from collections.abc import Callable
from pathlib import Path

from kettlefield.core.errors import InputError

CHUNK_BYTES = 4 * 2**20


def weights_digest(path: Path, on_bytes: Callable[[int], None] = lambda _: None) -> str:
    """The file's SHA-256 in hexadecimal, from the cache where path, size and time of change still agree.

    Parameters
    ----------
    path : Path
        The weights file.
    on_bytes : callable
        Told how many bytes were dealt with since the last call, for a progress bar.

    Raises
    ------
    InputError
        The file cannot be read.
    """
    try:
        stat = path.stat()
        key = f"{path.resolve()}|{stat.st_size}|{stat.st_mtime_ns}"
        cached = _read_cache().get(key)
        if cached is not None:
            on_bytes(stat.st_size)
            return cached
        digest = hashlib.sha256()
        with path.open("rb") as file:
            while chunk := file.read(CHUNK_BYTES):
                digest.update(chunk)
                on_bytes(len(chunk))
    except OSError as err:
        raise InputError(f"cannot be read ({err.strerror})", str(path), "Check the path and its permissions.") from err
    found = digest.hexdigest()
    _remember(key, found)
    return found


def _cache_path() -> Path:
    base = os.environ.get("XDG_CACHE_HOME") or str(Path.home() / ".cache")
    return Path(base) / "kettlefield" / "digests.json"


def _read_cache() -> dict[str, str]:
    with contextlib.suppress(OSError, ValueError):
        data = json.loads(_cache_path().read_text(encoding="utf-8"))
        if isinstance(data, dict):
            return {str(key): str(value) for key, value in data.items()}
    return {}


def _remember(key: str, digest: str) -> None:
    """A cache that cannot be written is no fault: the digest is computed again next time."""
    path = _cache_path()
    with contextlib.suppress(OSError):
        path.parent.mkdir(parents=True, exist_ok=True)
        fresh = path.with_suffix(f".{os.getpid()}")
        fresh.write_text(json.dumps({**_read_cache(), key: digest}), encoding="utf-8")
        fresh.replace(path)
