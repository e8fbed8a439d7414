"""A simulated accelerator: a folder that one process writes its use into and another can read.

``card.toml`` says what the card is; each process that uses memory on it keeps a file ``used-PID`` with the
number of bytes, and ``work-PID`` with the joules that it has used and whether the card is throttled. A file
whose process is gone counts for nothing, as with a real card.
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
    busy_w: float = 0.0  # power while it works; 0: it tells no power


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
        raise InputError(f"is not a simulated accelerator ({err})", str(path), "Name the folder of one.") from err


def claim_bytes(folder: Path, count: int) -> None:
    """Set what this process uses on the card, in bytes."""
    _write_whole(folder / f"used-{os.getpid()}", str(count))


def report_work(folder: Path, joules: float, *, throttled: bool) -> None:
    """Tell what this process has used in energy, and whether the card is throttled."""
    _write_whole(folder / f"work-{os.getpid()}", f"{joules:.6f} {int(throttled)}")


def work_told(folder: Path) -> tuple[float, bool]:
    """Joules used by the processes that live, and whether any of them is throttled."""
    joules, throttled = 0.0, False
    for path in folder.glob("work-*[0-9]"):
        with contextlib.suppress(OSError, ValueError):
            if psutil.pid_exists(int(path.name.removeprefix("work-"))):
                told, warm = path.read_text().split()
                joules, throttled = joules + float(told), throttled or warm == "1"
            else:
                path.unlink()
    return joules, throttled


def _write_whole(path: Path, text: str) -> None:
    fresh = path.with_suffix(".new")
    fresh.write_text(text)
    fresh.replace(path)  # whole or not at all: a reader never sees half a number


def used_bytes(folder: Path) -> dict[int, int]:
    """Bytes used on the card by each living process id."""
    claims = {}
    for path in folder.glob("used-*[0-9]"):
        with contextlib.suppress(OSError, ValueError):
            pid = int(path.name.removeprefix("used-"))
            if psutil.pid_exists(pid):
                claims[pid] = int(path.read_text())
            else:
                path.unlink()
    return claims
