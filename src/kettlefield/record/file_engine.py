"""A record in a file of its own: SQLite in WAL mode, held by one run at a time."""

import contextlib
import fcntl
import os
import sqlite3
from collections.abc import Iterator
from typing import Any

import sqlalchemy as sa

from kettlefield.core.errors import InputError
from kettlefield.record.place import FilePlace

_MAGIC = b"SQLite format 3\0"


class FileEngine:
    """How a record in a file is reached."""

    is_shared = False  # one run at a time writes, so nothing waits for it and nothing is held back

    def __init__(self, place: FilePlace) -> None:
        self.place = place
        self.engine = sa.create_engine(f"sqlite:///{place.path}")
        sa.event.listen(self.engine, "connect", _set_pragmas)

    def exists(self) -> bool:
        """Whether there is anything; an empty file is nothing yet.

        Raises
        ------
        InputError
            What is there is no database, or cannot be read.
        """
        path = self.place.path
        if not path.is_file() or path.stat().st_size == 0:
            return False
        try:
            with path.open("rb") as file:
                magic = file.read(len(_MAGIC))
        except OSError as err:
            raise InputError(f"cannot be read ({err.strerror})", str(path), "Check its permissions.") from err
        if magic != _MAGIC:
            raise self.refusal()
        return True

    def refusal(self) -> InputError:
        """What to say of something that is not a record."""
        hint = "Name the file that the plan calls record."
        return InputError("is not a Kettlefield record", str(self.place), hint)

    def absence(self) -> InputError:
        """What to say when there is none."""
        if self.place.path.is_file():
            return self.refusal()
        hint = "Run `kettlefield qualify` first, or check the name."
        return InputError("there is no such record", str(self.place), hint)

    def prepare(self) -> None:
        """Make ready for the tables.

        Raises
        ------
        InputError
            Its folder is missing.
        """
        if not self.place.path.parent.is_dir():
            hint = "Make the folder, or change record in the plan."
            raise InputError("its folder does not exist", str(self.place), hint)

    def begin_whole(self, connection: sa.Connection) -> None:
        """Let changes of tables take effect whole or not at all: the driver begins nothing before it changes one."""
        raw = connection.connection.driver_connection
        if raw is not None and not raw.in_transaction:
            connection.exec_driver_sql("BEGIN IMMEDIATE")

    def freeze(self, connection: sa.Connection) -> None:
        """Read as of now, whatever is written meanwhile: in WAL mode a transaction sees one state."""
        connection.exec_driver_sql("BEGIN")

    def destroy(self) -> None:
        """Remove the files."""
        for suffix in ("", "-wal", "-shm", ".lock"):
            self.place.beside(suffix).unlink(missing_ok=True)

    @contextlib.contextmanager
    def lock(self, _: str) -> Iterator[None]:
        """Hold the record for one run; the lock goes with the process, however it ends.

        Raises
        ------
        InputError
            Another run holds it.
        """
        with self.place.beside(".lock").open("a+") as file:
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError as err:
                file.seek(0)
                holder = file.read(20).strip() or "unknown"
                hint = "Wait for it, or stop it with Ctrl-C."
                raise InputError(f"another run is using it (process {holder})", str(self.place), hint) from err
            file.truncate(0)
            file.write(str(os.getpid()))
            file.flush()
            yield

    def damage(self, err: sa.exc.DBAPIError) -> InputError:
        """What to say when reading fails."""
        hint = "Restore it from a copy; it may be damaged."
        return InputError(f"cannot be read ({err.orig})", str(self.place), hint)

    def is_lost(self, _: sa.exc.DBAPIError) -> bool:
        """Whether an error means that the database is away for now: a file never is."""
        return False


def _set_pragmas(connection: sqlite3.Connection, _: Any) -> None:
    cursor = connection.cursor()
    # WAL with full syncs: a commit is on the disk when it returns, also when the machine goes down
    for pragma in ("journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON", "busy_timeout=5000"):
        cursor.execute(f"PRAGMA {pragma}")
    cursor.close()
