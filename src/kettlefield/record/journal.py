"""Writes that are held back while a database is away: in a file beside the logs, until the database has them."""

import contextlib
import json
import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec

from kettlefield.core.errors import InputError, RigError


class HeldBack(msgspec.Struct, frozen=True, kw_only=True):
    """One write that the database does not have yet, or may have: its number tells."""

    writer: str  # the run that it is of
    number: int  # of the run's writes, from 1
    kind: str
    at: float  # seconds since the epoch, when it was to be written
    payload: Any  # plain data


class Journal:
    """A file of writes, one a line; what was appended is on the disk."""

    def __init__(self, path: Path) -> None:
        self.path = path

    def append(self, entry: HeldBack) -> None:
        """Add a write.

        Raises
        ------
        RigError
            The file cannot be written.
        """
        fields = {name: getattr(entry, name) for name in HeldBack.__struct_fields__}
        line = json.dumps(fields) + "\n"  # escaped, so that halves of surrogate pairs survive
        try:
            self.path.parent.mkdir(parents=True, exist_ok=True)
            with self.path.open("a", encoding="ascii") as file:
                file.write(line)
                file.flush()
                os.fsync(file.fileno())
        except OSError as err:
            raise RigError(f"cannot be written ({err.strerror})", str(self.path), "Make room there.") from err

    def entries(self) -> Iterator[HeldBack]:
        """Every write, oldest first; a last line that was cut off when the tool was killed is left out.

        Raises
        ------
        InputError
            The file holds something else.
        """
        with contextlib.suppress(FileNotFoundError), self.path.open(encoding="ascii", errors="replace") as file:
            for line in file:
                if not line.endswith("\n"):
                    return
                try:
                    yield HeldBack(**json.loads(line))
                except (ValueError, TypeError) as err:
                    hint = "Restore it, or move it away: what it holds is then not in the record."
                    raise InputError("is not a journal of ours", str(self.path), hint) from err

    def remove(self) -> None:
        """The database has everything."""
        self.path.unlink(missing_ok=True)
