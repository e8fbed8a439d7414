"""A simulated accelerator: a folder that one process writes its use into and another can read.

``card.toml`` says what the card is; each process that uses memory on it keeps a file ``used-PID`` with the
number of bytes. A file whose process is gone counts for nothing, as with a real card.
"""

import contextlib
import os
from pathlib import Path

import msgspec
import psutil

from kettlefield.core.errors import InputError


class CardFile(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """``card.toml`` as written."""

    name: str
    memory_bytes: int
    bandwidth_bytes_s: float  # memory reads, bytes a second
    compute_flops: float  # floating-point operations a second
    load_bytes_s: float  # from disk into its memory, bytes a second


def read_card(folder: Path) -> CardFile:
    """The card that a folder describes.

    Raises
    ------
    InputError
        There is no ``card.toml``, or it is malformed.
    """
    path = folder / "card.toml"
    try:
        return msgspec.toml.decode(path.read_bytes(), type=CardFile)
    except (OSError, msgspec.DecodeError, msgspec.ValidationError) as err:
        raise InputError(f"is no simulated accelerator ({err})", str(path), "Name the folder of one.") from err


def claim_bytes(folder: Path, count: int) -> None:
    """Set what this process uses on the card, in bytes."""
    path = folder / f"used-{os.getpid()}"
    fresh = path.with_suffix(".new")
    fresh.write_text(str(count))
    fresh.replace(path)  # whole or not at all: a reader never sees half a number


def used_bytes(folder: Path) -> dict[int, int]:
    """Bytes used on the card by each living process id."""
    found = {}
    for path in folder.glob("used-*"):
        with contextlib.suppress(OSError, ValueError):
            pid = int(path.name.removeprefix("used-"))
            if psutil.pid_exists(pid):
                found[pid] = int(path.read_text())
            else:
                path.unlink()
    return found
