"""The file of a record, SQLite in WAL mode: opened and brought up to our format, locked, read and written."""

import contextlib
import fcntl
import os
import sqlite3
from collections.abc import Callable, Iterator
from importlib import resources
from pathlib import Path
from typing import Any, Self, TypeVar

import sqlalchemy as sa

from kettlefield import __version__
from kettlefield.core.errors import InputError, RigError
from kettlefield.record import schema

T = TypeVar("T")
_SQLITE_MAGIC = b"SQLite format 3\0"
_LAST_WITHOUT_ALEMBIC = 7  # up to it the format stood in the table meta


class RecordFile:
    """A record's file: opened and migrated, locked for one run, read and written; what it holds is for ``Record``."""

    def __init__(self, path: Path) -> None:
        self.path = path
        self._known: dict[str, Any] = {}
        self._engine = sa.create_engine(f"sqlite:///{path}")
        sa.event.listen(self._engine, "connect", _set_pragmas)

    @classmethod
    def create_or_open(cls, path: Path) -> Self:
        """Open a record, created where there is none.

        Raises
        ------
        InputError
            The file is not a record, or one of a newer version.
        RigError
            The place cannot be written to.
        """
        if path.exists() and path.stat().st_size > 0:
            return cls.open(path)
        if not path.parent.is_dir():
            raise InputError("its folder does not exist", str(path), "Make the folder, or change record in the plan.")
        record = cls(path)
        with record._writing() as connection:
            schema.metadata.create_all(connection)
            connection.execute(schema.meta.insert().values(key="made_by", value=f"kettlefield {__version__}"))
            connection.execute(schema.format_version.insert().values(version_num=str(schema.FORMAT)))
        return record

    @classmethod
    def open(cls, path: Path) -> Self:
        """Open a record that is there.

        Raises
        ------
        InputError
            There is none, it is not a record, or it was made by a newer version.
        """
        if not path.is_file():
            raise InputError(
                "there is no such record", str(path), "Run `kettlefield qualify` first, or check the name."
            )
        try:
            with path.open("rb") as file:
                magic = file.read(len(_SQLITE_MAGIC))
        except OSError as err:
            raise InputError(f"cannot be read ({err.strerror})", str(path), "Check its permissions.") from err
        refusal = InputError("is not a Kettlefield record", str(path), "Name the file that the plan calls record.")
        if magic != _SQLITE_MAGIC:
            raise refusal
        record = cls(path)
        try:
            with record.reading() as connection:
                version = _format_of(connection)
        except (sa.exc.DatabaseError, InputError) as err:
            raise refusal from err
        if version is None:
            raise refusal
        if version > schema.FORMAT:
            raise InputError(
                f"has format {version}, this version reads up to {schema.FORMAT}",
                str(path),
                "Use the newer Kettlefield that wrote it.",
            )
        if version < schema.FORMAT:
            record._upgrade(version)
        return record

    def _upgrade(self, version: int) -> None:
        """Bring a record of an older format up to ours; nothing in it is lost."""
        from alembic import command  # noqa: PLC0415 - only an older record needs it, and it takes a while to load
        from alembic.config import Config  # noqa: PLC0415

        config = Config()
        config.set_main_option("script_location", str(resources.files("kettlefield.record") / "migrations"))
        with self._writing() as connection:
            raw = connection.connection.driver_connection
            if raw is not None and not raw.in_transaction:
                # the driver begins none before it changes tables: a migration is whole or not at all
                connection.exec_driver_sql("BEGIN IMMEDIATE")
            config.attributes["connection"] = connection
            if version == _LAST_WITHOUT_ALEMBIC:
                command.stamp(config, str(version))
            command.upgrade(config, "head")

    def close(self) -> None:
        """Let go of the file."""
        self._engine.dispose()

    @contextlib.contextmanager
    def lock(self) -> Iterator[None]:
        """Hold the record for one run; the lock goes with the process, however it ends.

        Raises
        ------
        InputError
            Another run holds it.
        """
        path = self.path.with_name(self.path.name + ".lock")
        with path.open("a+") as file:
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError as err:
                file.seek(0)
                holder = file.read(20).strip() or "unknown"
                raise InputError(
                    f"another run is using it (process {holder})",
                    str(self.path),
                    "Wait for it, or stop it with Ctrl-C.",
                ) from err
            file.truncate(0)
            file.write(str(os.getpid()))
            file.flush()
            yield

    @contextlib.contextmanager
    def reading(self) -> Iterator[sa.Connection]:
        """A connection to read from.

        Raises
        ------
        InputError
            The file is damaged.
        """
        try:
            with self._engine.connect() as connection:
                yield connection
        except sa.exc.DatabaseError as err:
            raise InputError(
                f"cannot be read ({_root(err)})", str(self.path), "Restore it from a copy; it may be damaged."
            ) from err

    def once(self, name: str, read: Callable[[], T]) -> T:
        """What was read under this name since something was last written through this object; else it is read now."""
        if name not in self._known:
            self._known[name] = read()
        known: T = self._known[name]
        return known

    @contextlib.contextmanager
    def _writing(self) -> Iterator[sa.Connection]:
        self._known.clear()
        try:
            with self._engine.begin() as connection:
                yield connection
        except sa.exc.OperationalError as err:
            raise RigError(
                f"cannot be written ({_root(err)})",
                str(self.path),
                "Make room or permission there; every finished trial is kept and the same command resumes.",
            ) from err


def _set_pragmas(connection: sqlite3.Connection, _: Any) -> None:
    cursor = connection.cursor()
    # WAL with full syncs: a commit is on the disk when it returns, also when the machine goes down
    for pragma in ("journal_mode=WAL", "synchronous=FULL", "foreign_keys=ON", "busy_timeout=5000"):
        cursor.execute(f"PRAGMA {pragma}")
    cursor.close()


def _root(err: sa.exc.DatabaseError) -> str:
    return str(err.orig) if err.orig is not None else str(err)


def _format_of(connection: sa.Connection) -> int | None:
    """The format that a record says it has; None: it says none, so it is not a record."""
    tables = sa.inspect(connection).get_table_names()
    if schema.format_version.name in tables:
        version = connection.execute(sa.select(schema.format_version.c.version_num)).scalar_one_or_none()
    else:
        query = sa.select(schema.meta.c.value).where(schema.meta.c.key == "schema_version")
        version = connection.execute(query).scalar_one_or_none()
    return int(version) if version is not None and version.isdigit() else None
