"""A path in, facts out: a file of either format, an index, or a folder that holds one model."""

import os
from pathlib import Path

from kettlefield.core.errors import InputError
from kettlefield.weights.facts import ModelFacts
from kettlefield.weights.gguf_facts import read_gguf_facts
from kettlefield.weights.safetensors_facts import read_safetensors_facts


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
        There is no such file, it is damaged, or it is no weights file.
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
    raise InputError("is no weights file", str(path), "Name a GGUF or safetensors file, or a model's folder.")


def files_of(path: Path) -> tuple[Path, ...]:
    """All files of a model; just the path itself where it is no weights file of a known format."""
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
