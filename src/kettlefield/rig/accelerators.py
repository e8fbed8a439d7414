"""Accelerators behind one face: what they are, and how much memory given processes use on them."""

from collections.abc import Collection
from pathlib import Path
from typing import Protocol

from kettlefield.core.errors import InputError
from kettlefield.rig import simulated_card

SIMULATED_PREFIX = "simulated:"


class Accelerator(Protocol):
    """One accelerator."""

    name: str
    memory_bytes: int
    bandwidth_bytes_s: float | None  # memory reads, bytes a second; None where the driver does not tell
    simulated: bool

    def used_by(self, pids: Collection[int]) -> int:
        """Bytes that these processes use on it."""
        ...

    def used(self) -> int:
        """Bytes that all processes use on it."""
        ...


class SimulatedCard:
    """The stand-in's card, read as another process reads a real one."""

    simulated = True

    def __init__(self, folder: Path) -> None:
        card = simulated_card.read_card(folder)
        self.name = f"{card.name} (simulated)"
        self.memory_bytes = card.memory_bytes
        self.bandwidth_bytes_s: float | None = card.bandwidth_bytes_s
        self._folder = folder

    def used_by(self, pids: Collection[int]) -> int:
        """See ``Accelerator``."""
        return sum(used for pid, used in simulated_card.used_bytes(self._folder).items() if pid in pids)

    def used(self) -> int:
        """See ``Accelerator``."""
        return sum(simulated_card.used_bytes(self._folder).values())


def open_accelerator(wanted: str, beside: Path) -> Accelerator | None:
    """The accelerator that a plan names; None for ``"none"``.

    Parameters
    ----------
    wanted : str
        ``"none"`` or ``"simulated:FOLDER"``.
    beside : Path
        The plan's folder, which FOLDER is relative to.

    Raises
    ------
    InputError
        The name is no accelerator that this version can read.
    """
    if wanted == "none":
        return None
    if wanted.startswith(SIMULATED_PREFIX):
        return SimulatedCard(beside / wanted.removeprefix(SIMULATED_PREFIX))
    raise InputError(f'unknown accelerator "{wanted}"', "plan [rig] accelerator", 'Write "none" or "simulated:FOLDER".')
