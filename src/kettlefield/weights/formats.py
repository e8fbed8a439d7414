"""A path in, facts out: a file of any known format, an index or a folder that holds one model.

A format is one module of this package with a ``WeightsFormat``; modules of third parties add theirs through the
entry-point group ``kettlefield.weights``.
"""

import os
from collections.abc import Sequence
from pathlib import Path

from kettlefield.core.errors import InputError
from kettlefield.core.plaintext import listed
from kettlefield.registry import Registry
from kettlefield.weights.facts import ModelFacts, WeightsFormat

FORMATS: Registry[WeightsFormat] = Registry(WeightsFormat, package="kettlefield.weights", group="kettlefield.weights")
MAGIC_BYTES = 16  # of a file's beginning, for a format to know its own by


def read_facts(path: Path) -> ModelFacts:
    """What a weights file is, from its headers alone.

    Parameters
    ----------
    path : Path
        A file of a known format (any shard of a split one), an index, or a folder that holds one model.

    Raises
    ------
    InputError
        There is no such file, it is damaged, or it is not a weights file.
    """
    path = _resolve(path)
    try:
        with path.open("rb") as file:
            magic = file.read(MAGIC_BYTES)
    except OSError as err:
        raise InputError(f"cannot be read ({err.strerror})", str(path), "Check the path and its permissions.") from err
    own = next((one for one in FORMATS.values() if one.matches(path, magic)), None)
    if own is None:
        raise InputError("is not a weights file", str(path), f"Name a {_titles()} file, or a model's folder.")
    return own.read(path)


def files_of(path: Path) -> tuple[Path, ...]:
    """All files of a model; just the path itself where it is not a weights file of a known format."""
    try:
        return read_facts(path).files
    except InputError:
        return (path,)


def _titles() -> str:
    return listed((one.title for one in FORMATS.values()), last="or")


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
    # longer endings first: an index names the shards beside it
    endings = sorted(
        ((ending, one) for one in FORMATS.values() for ending in one.endings), key=lambda pair: -len(pair[0])
    )
    for ending, own in endings:
        matching = [name for name in names if name.endswith(ending)]
        if len(matching) == 1 or (own.joins_shards and _are_one_set(matching)):
            return path / matching[0]
        if matching:
            raise InputError(f"holds {len(matching)} files that end in {ending}", str(path), "Name one of them.")
    raise InputError("holds no weights", str(path), f"Name a {_titles()} file, or a folder that holds one.")


def _are_one_set(names: Sequence[str]) -> bool:
    """Whether files are the shards of one model, by their names."""
    return all("-of-" in name for name in names) and len({name.rsplit("-of-", 1)[-1] for name in names}) == 1
