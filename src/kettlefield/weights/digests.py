"""SHA-256 of weights files, remembered by path, size and time of change: they are read once, not every run."""

import hashlib
from collections.abc import Callable, Sequence
from pathlib import Path

from kettlefield.core.errors import InputError
from kettlefield.rig.remembered import recall, remember

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
        key = _key(path)
        cached = recall("digests", key)
        if isinstance(cached, str):
            on_bytes(path.stat().st_size)
            return cached
        digest = hashlib.sha256()
        with path.open("rb") as file:
            while chunk := file.read(CHUNK_BYTES):
                digest.update(chunk)
                on_bytes(len(chunk))
    except OSError as err:
        raise InputError(f"cannot be read ({err.strerror})", str(path), "Check the path and its permissions.") from err
    value = digest.hexdigest()
    remember("digests", key, value)
    return value


def know_digest(path: Path, digest: str) -> None:
    """Remember the SHA-256 of a file that was just written, by the program that knows what it wrote."""
    remember("digests", _key(path), digest)


def _key(path: Path) -> str:
    stat = path.stat()
    return f"{path.resolve()}|{stat.st_size}|{stat.st_mtime_ns}"


def digest_of_files(paths: Sequence[Path], on_bytes: Callable[[int], None] = lambda _: None) -> str:
    """The digest of a model: of its one file, or of the lines ``DIGEST  NAME`` of its shards.

    Parameters
    ----------
    paths : sequence of Path
        At least one.
    on_bytes : callable
        See ``weights_digest``.

    Raises
    ------
    InputError
        A file cannot be read.
    """
    digests = [weights_digest(path, on_bytes) for path in paths]
    if len(digests) == 1:
        return digests[0]
    lines = "".join(f"{digest}  {path.name}\n" for digest, path in zip(digests, paths, strict=True))
    return hashlib.sha256(lines.encode()).hexdigest()
