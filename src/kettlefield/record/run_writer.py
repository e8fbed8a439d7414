"""Writing for one run into a database that may go away meanwhile: nothing is lost, and nothing is written twice.

Every write of a run has a number, and the last number that the database has is written in the same transaction. So a
connection that breaks in the middle of a commit leaves no doubt: after it comes back, the number tells.
"""

import threading
import time
import uuid
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import msgspec
import sqlalchemy as sa

from kettlefield.core.errors import InputError, RigError
from kettlefield.core.units import format_duration
from kettlefield.record import schema
from kettlefield.record.database_engine import DatabaseEngine, is_conflict
from kettlefield.record.journal import HeldBack, Journal
from kettlefield.record.kinds import KINDS, Kind

T = TypeVar("T")
PATIENCE_S = 600.0  # that a run waits for a database that is away, where it cannot go on without it
_LOOK_EVERY_S = 1.0  # whether it is back
_MOST_CONFLICTS = 20  # in a row: two rigs that write the same prompts


class RunWriter:
    """The writes of one run on one rig."""

    def __init__(self, engine: DatabaseEngine, folder: Path, rig: str, say: Callable[[str], None]) -> None:
        self._engine, self._rig, self._say = engine, rig, say
        self._prefix = f"journal-{engine.place.campaign}-{rig or 'rig'}-".replace("/", "_")
        self._folder = folder
        self._id = uuid.uuid4().hex
        self._number = 0
        self._journal = Journal(folder / f"{self._prefix}{self._id}.jsonl")
        self._over = threading.Event()
        self._back: threading.Event | None = None  # set when the database is back; none: it is not away

    @property
    def is_away(self) -> bool:
        """Whether the database was away when it was last needed."""
        return self._back is not None

    def begin(self) -> int:
        """Write what earlier runs on this rig held back; how many writes that were.

        Raises
        ------
        InputError
            A journal is damaged.
        """
        count, table = 0, schema.run_writer
        for path in sorted(self._folder.glob(f"{self._prefix}*.jsonl")):
            journal = Journal(path)
            count += self._replay(journal)
            journal.remove()
        with self._engine.engine.begin() as connection:  # of runs that were killed
            connection.execute(table.delete().where(table.c.rig == self._rig))
        return count

    def end(self) -> None:
        """Leave nothing behind, when everything is written; otherwise the next run reads the journal."""
        self._over.set()
        if not self.is_away or self._catch_up():
            with self._engine.engine.begin() as connection:
                connection.execute(schema.run_writer.delete().where(schema.run_writer.c.id == self._id))

    def put(self, kind: Kind[Any], payload: Any) -> None:
        """Write, or hold back while the database is away."""
        self._number += 1
        entry = HeldBack(
            writer=self._id, number=self._number, kind=kind.name, at=time.time(), payload=kind.plain(payload)
        )
        if self.is_away and not self._catch_up():
            self._journal.append(entry)
            return
        try:
            self._once(entry.writer, entry.number, lambda connection: kind.write(connection, entry.at, payload))
        except sa.exc.DBAPIError as err:
            if not self._engine.is_lost(err):
                raise
            self._journal.append(entry)
            self._went_away()

    def write(self, work: Callable[[sa.Connection], T], *, may_wait: bool = True) -> T:
        """Write what cannot be held back, since what follows needs its result.

        Raises
        ------
        RigError
            The database stays away; or is away, and what calls may not wait, since requests would wait with it.
        """
        self._number += 1
        results: list[T] = []  # of the last try: what was committed when the connection broke in the middle of it

        def keep(connection: sa.Connection) -> None:
            results[:] = [work(connection)]

        while True:
            self.wait(PATIENCE_S if may_wait else 0.0)
            try:
                self._once(self._id, self._number, keep)
            except sa.exc.DBAPIError as err:
                if not self._engine.is_lost(err):
                    raise
                self._went_away()
                if not may_wait:
                    raise self._absence(0.0) from err
            else:
                return results[0]

    def wait(self, patience_s: float | None = None) -> None:
        """Wait until the database is there and has everything that was held back.

        Raises
        ------
        RigError
            It stays away.
        """
        patience_s = PATIENCE_S if patience_s is None else patience_s
        until_s = time.monotonic() + patience_s
        while self.is_away and not self._catch_up():
            if time.monotonic() >= until_s:
                raise self._absence(patience_s)
            if self._back is not None:
                self._back.wait(_LOOK_EVERY_S)

    def _absence(self, waited_s: float) -> RigError:
        hint = "When it is back, the same command resumes; finished trials are kept beside the logs until then."
        what = f"the database did not answer for {format_duration(waited_s)}" if waited_s else "the database is away"
        return RigError(what, str(self._engine.place), hint)

    def _went_away(self) -> None:
        if self._back is None:
            self._say("the database is away; results are kept beside the logs until it is back")
        self._back = threading.Event()
        threading.Thread(target=self._look_out, args=(self._back,), daemon=True, name="database").start()

    def _look_out(self, back: threading.Event) -> None:
        """Connect in a thread of its own: a network that answers nothing would stop every clock here."""
        while not back.is_set() and not self._over.is_set():
            try:
                with self._engine.engine.connect():
                    back.set()
            except sa.exc.DBAPIError:
                time.sleep(_LOOK_EVERY_S)

    def _catch_up(self) -> bool:
        """Write what was held back, where the database is back; whether it has everything now."""
        if self._back is None:
            return True
        if not self._back.is_set():
            return False
        try:
            self._engine.keep_locks()
            count = self._replay(self._journal)
        except sa.exc.DBAPIError as err:
            if not self._engine.is_lost(err):
                raise
            self._went_away()
            return False
        self._journal.remove()
        self._back = None
        self._say(f"the database is back; it has the {count} results that were kept" if count else "it is back")
        return True

    def _replay(self, journal: Journal) -> int:
        count = 0
        for entry in journal.entries():
            try:
                kind = KINDS[entry.kind]
                payload = kind.typed(entry.payload)
            except (KeyError, msgspec.ValidationError) as err:
                hint = "Read it with the Kettlefield that wrote it, or move it away."
                raise InputError(f"holds a write that cannot be read ({err})", str(journal.path), hint) from err
            self._once(entry.writer, entry.number, _writing(kind, entry.at, payload))
            count += 1
        return count

    def _once(self, writer: str, number: int, work: Callable[[sa.Connection], None]) -> None:
        """Write under a number, unless the database has it already."""
        for attempt in range(1, _MOST_CONFLICTS + 1):
            try:
                with self._engine.engine.begin() as connection:
                    if self._is_new(connection, writer, number):
                        work(connection)
            except sa.exc.DBAPIError as err:
                if not is_conflict(err) or attempt == _MOST_CONFLICTS:
                    raise
            else:
                return

    def _is_new(self, connection: sa.Connection, writer: str, number: int) -> bool:
        """Whether the database does not have a write yet; in this transaction it has."""
        table = schema.run_writer
        last = connection.execute(sa.select(table.c.last_number).where(table.c.id == writer)).scalar_one_or_none()
        if last is None:  # its first, or the database was restored to a state before it
            row = {"id": writer, "rig": self._rig, "last_number": number, "started_at": time.time()}
            connection.execute(table.insert().values(**row))
            return True
        if last < number:
            connection.execute(table.update().where(table.c.id == writer).values(last_number=number))
        return bool(last < number)


def _writing(kind: Kind[Any], at: float, payload: Any) -> Callable[[sa.Connection], None]:
    return lambda connection: kind.write(connection, at, payload)
