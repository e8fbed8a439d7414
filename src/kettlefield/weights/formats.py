"""A path in, facts out: a file of any known format, an index or a folder; digests remembered between runs."""

import hashlib
import os
from collections.abc import Callable, Sequence
from pathlib import Path

from kettlefield.core.errors import InputError
from kettlefield.rig.host import recall, remember
from kettlefield.weights.facts import ModelFacts
from kettlefield.weights.gguf import read_gguf_facts
from kettlefield.weights.safetensors import read_safetensors_facts


def read_facts(path: Path) -> ModelFacts:
    """What a weights file is, from its headers alone.

    Parameters
    ----------
    path : Path
        A GGUF file (any shard of a split one), a safetensors file, a ``*.safetensors.index.json``, or a
        folder that holds one model.

    Raises
    ------
    InputError
        There is no such file, it is damaged, or it is not a weights file.
    """
    path = _resolve(path)
    try:
        with path.open("rb") as file:
            magic = file.read(4)
    except OSError as err:
        raise InputError(f"cannot be read ({err.strerror})", str(path), "Check the path and its permissions.") from err
    if magic == b"GGUF":
        return read_gguf_facts(path)
    if path.name.endswith((".safetensors", ".safetensors.index.json")):
        return read_safetensors_facts(path)
    raise InputError("is not a weights file", str(path), "Name a GGUF or safetensors file, or a model's folder.")


def files_of(path: Path) -> tuple[Path, ...]:
    """All files of a model; just the path itself where it is not a weights file of a known format."""
    try:
        return read_facts(path).files
    except InputError:
        return (path,)


def _resolve(path: Path) -> Path:
    try:
        if not path.exists():
            # a link that leads nowhere, or round in a circle, is there and yet is not
            link = os.path.lexists(path)
            what = "is a link that leads nowhere" if link else "there is no such file"
            raise InputError(what, str(path), "Check the name.")
        if not path.is_dir():
            return path
        names = sorted(entry.name for entry in path.iterdir())
    except OSError as err:
        raise InputError(f"cannot be read ({err.strerror})", str(path), "Check the path and its links.") from err
    for ending in (".safetensors.index.json", ".safetensors", ".gguf"):
        found = [name for name in names if name.endswith(ending)]
        shards = {name.rsplit("-of-", 1)[-1] for name in found if "-of-" in name}
        if len(found) == 1 or (ending == ".gguf" and found and len(shards) == 1 and all("-of-" in n for n in found)):
            return path / found[0]
        if found:
            raise InputError(f"holds {len(found)} files that end in {ending}", str(path), "Name one of them.")
    raise InputError("holds no weights", str(path), "Name a GGUF or safetensors file, or a folder that holds one.")


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
        cached = recall("digests", key)
        if isinstance(cached, str):
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
    remember("digests", key, found)
    return found


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
