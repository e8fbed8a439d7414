"""The storage of a record: opened and brought up to our format, locked, read and written; on either engine."""

import contextlib
import weakref
from collections.abc import Callable, Iterator
from importlib import resources
from pathlib import Path
from typing import Any, Self, TypeVar

import sqlalchemy as sa

from kettlefield import __version__
from kettlefield.core.errors import InputError, RigError
from kettlefield.record import schema
from kettlefield.record.database_engine import DatabaseEngine, campaign_names, database_error, open_engine
from kettlefield.record.file_engine import FileEngine
from kettlefield.record.kinds import Kind
from kettlefield.record.place import DatabasePlace, FilePlace, Place, as_place
from kettlefield.record.run_writer import RunWriter

T = TypeVar("T")
_LAST_WITHOUT_ALEMBIC = 7  # up to it the format stood in the table meta


class Storage:
    """Where a record is kept: opened and migrated, locked for one run, read and written; the rest is ``Record``'s."""

    def __init__(self, where: Place | Path | str) -> None:
        place = as_place(where)
        self.place: Place = place
        self._known: dict[str, Any] = {}
        self._engine: FileEngine | DatabaseEngine = (
            FileEngine(place) if isinstance(place, FilePlace) else DatabaseEngine(place)
        )
        weakref.finalize(self, self._engine.engine.dispose)  # whoever opens a record to read it lets it go, no more
        self._writer: RunWriter | None = None  # of a run that holds a record which several may write

    @classmethod
    def create_or_open(cls, where: Place | Path | str) -> Self:
        """Open a record, created where there is none.

        Raises
        ------
        InputError
            What is there is not a record, or one of a newer version; the database refuses.
        RigError
            The place cannot be written to, or the database does not answer.
        """
        record = cls(where)
        if record._engine.exists() and (record._engine.is_shared is False or record._holds_tables()):
            return cls.open(where)
        record._engine.prepare()
        record._plain_write(record._create)
        return record

    def _holds_tables(self) -> bool:
        with self.reading() as connection:
            return bool(sa.inspect(connection).get_table_names())

    def _create(self, connection: sa.Connection) -> None:
        self._engine.begin_whole(connection)
        if sa.inspect(connection).has_table(schema.meta.name):
            return  # another rig was quicker
        schema.metadata.create_all(connection)
        connection.execute(schema.meta.insert().values(key="made_by", value=f"kettlefield {__version__}"))
        connection.execute(schema.format_version.insert().values(version_num=str(schema.FORMAT)))

    @classmethod
    def is_there(cls, where: Place | Path | str) -> bool:
        """Whether there is anything at a place that could be opened.

        Raises
        ------
        KettlefieldError
            What is there is no database, or it does not answer.
        """
        record = cls(where)
        try:
            return record._engine.exists()
        finally:
            record.close()

    @classmethod
    def open(cls, where: Place | Path | str) -> Self:
        """Open a record that is there; of a database with one campaign that one, where none is named.

        Raises
        ------
        InputError
            There is none, it is not a record, it was made by a newer version, or the database refuses.
        RigError
            The database does not answer.
        """
        place = as_place(where)
        if isinstance(place, DatabasePlace) and place.campaign is None:
            place = place.named(_only_campaign(place))
        record = cls(place)
        if not record._engine.exists():
            raise record._engine.absence()
        try:
            with record._engine.engine.connect() as connection:
                version = _format_of(connection)
        except sa.exc.DatabaseError as err:
            if record._engine.is_shared and not isinstance(err, sa.exc.ProgrammingError):
                raise record._engine.damage(err) from err
            raise record._engine.refusal() from err
        if version is None:
            raise record._engine.refusal()
        if version > schema.FORMAT:
            raise InputError(
                f"has format {version}, this version reads up to {schema.FORMAT}",
                str(place),
                "Use the newer Kettlefield that wrote it.",
            )
        if version < schema.FORMAT:
            record._upgrade()
        return record

    def _upgrade(self) -> None:
        """Bring a record of an older format up to ours; nothing in it is lost."""
        from alembic import command  # noqa: PLC0415 - only an older record needs it, and it takes a while to load
        from alembic.config import Config  # noqa: PLC0415

        config = Config()
        config.set_main_option("script_location", str(resources.files("kettlefield.record") / "migrations"))

        def upgrade(connection: sa.Connection) -> None:
            self._engine.begin_whole(connection)
            version = _format_of(connection)  # another rig may have been quicker
            config.attributes["connection"] = connection
            if version == _LAST_WITHOUT_ALEMBIC:
                command.stamp(config, str(version))
            command.upgrade(config, "head")

        self._plain_write(upgrade)

    def close(self) -> None:
        """Let go of the file or of the connections."""
        self._engine.engine.dispose()

    @contextlib.contextmanager
    def lock(self, *, rig: str = "", logs: Path | None = None, say: Callable[[str], None] = print) -> Iterator[None]:
        """Hold the record for one run; the lock goes with the process, however it ends.

        Parameters
        ----------
        rig : str
            In a database a campaign is held for each rig by itself; a file by one run alone.
        logs : Path, optional
            Where results are kept while a database is away; None: nothing is kept, and writing fails then.
        say : callable
            Is told when a database goes away, and when it is back.

        Raises
        ------
        InputError
            Another run holds it.
        """
        with self._engine.lock(rig):
            if logs is None or not isinstance(self._engine, DatabaseEngine):
                yield
                return
            writer = RunWriter(self._engine, logs, rig, say)
            with self._translated():
                if count := writer.begin():
                    say(f"{count} results that an earlier run kept are in the database now")
            self._writer = writer
            try:
                yield
            finally:
                self._writer = None
                with self._translated():
                    writer.end()

    @contextlib.contextmanager
    def reading(self) -> Iterator[sa.Connection]:
        """A connection to read from.

        Raises
        ------
        InputError
            The file is damaged, or the database refuses.
        RigError
            The database does not answer.
        """
        with self._translated():
            if self._writer is not None:
                self._writer.wait()
            with self._engine.engine.connect() as connection:
                yield connection

    @contextlib.contextmanager
    def snapshot(self) -> Iterator[sa.Connection]:
        """A connection to read many tables from as they are at one moment, whoever writes meanwhile.

        Raises
        ------
        KettlefieldError
            As for ``reading``.
        """
        with self.reading() as connection:
            self._engine.freeze(connection)
            yield connection

    def write_all(self, work: Callable[[sa.Connection], T]) -> T:
        """Write a whole campaign, whole or not at all.

        Raises
        ------
        KettlefieldError
            The place cannot be written to.
        """
        return self._write(work)

    def destroy(self) -> None:
        """Take away what was just created here and could not be filled."""
        self.close()
        self._engine.destroy()

    def once(self, name: str, read: Callable[[], T]) -> T:
        """What was read under this name since something was last written through this object; else it is read now."""
        if name not in self._known:
            self._known[name] = read()
        known: T = self._known[name]
        return known

    def _put(self, kind: Kind[Any], payload: Any) -> None:
        """Write something whose result nobody waits for; where the database is away it is held back."""
        self._known.clear()
        if self._writer is None:
            self._plain_write(lambda connection: kind.write_now(connection, payload))
            return
        with self._translated():
            self._writer.put(kind, payload)

    def _write(self, work: Callable[[sa.Connection], T], *, may_wait: bool = True) -> T:
        """Write, whole or not at all."""
        self._known.clear()
        if self._writer is None:
            return self._plain_write(work)
        with self._translated():
            return self._writer.write(work, may_wait=may_wait)

    def _plain_write(self, work: Callable[[sa.Connection], T]) -> T:
        try:
            with self._engine.engine.begin() as connection:
                return work(connection)
        except sa.exc.DBAPIError as err:
            if self._engine.is_shared:
                raise self._engine.damage(err) from err
            if not isinstance(err, sa.exc.OperationalError):
                raise
            raise RigError(
                f"cannot be written ({err.orig})",
                str(self.place),
                "Make room or permission there; every finished trial is kept and the same command resumes.",
            ) from err

    @contextlib.contextmanager
    def _translated(self) -> Iterator[None]:
        try:
            yield
        except sa.exc.DatabaseError as err:
            raise self._engine.damage(err) from err


def campaigns_in(place: DatabasePlace) -> list[str]:
    """The names of the campaigns that a database holds.

    Raises
    ------
    KettlefieldError
        It refuses or does not answer.
    """
    engine = open_engine(place)
    try:
        return campaign_names(engine)
    except sa.exc.DBAPIError as err:
        raise database_error(err, str(place)) from err
    finally:
        engine.dispose()


def _only_campaign(place: DatabasePlace) -> str:
    names = campaigns_in(place)
    if len(names) == 1:
        return names[0]
    if not names:
        raise InputError("holds no campaign yet", str(place), "Run `kettlefield qualify` with it as the plan's record.")
    shown = ", ".join(names[:8]) + (" ..." if len(names) > 8 else "")
    raise InputError(f"holds {len(names)} campaigns", str(place), f"Write #NAME behind the URL; there are {shown}.")


def _format_of(connection: sa.Connection) -> int | None:
    """The format that a record says it has; None: it says none, so it is not a record."""
    tables = sa.inspect(connection).get_table_names()
    if schema.format_version.name in tables:
        version = connection.execute(sa.select(schema.format_version.c.version_num)).scalar_one_or_none()
    elif schema.meta.name in tables:
        query = sa.select(schema.meta.c.value).where(schema.meta.c.key == "schema_version")
        version = connection.execute(query).scalar_one_or_none()
    else:
        return None
    return int(version) if version is not None and version.isdigit() else None
