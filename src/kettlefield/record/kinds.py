"""Writes that can wait for a database that is away: what each of them puts into which tables."""

import json
import time
from collections.abc import Callable
from typing import Any, Generic, TypeVar

import msgspec
import sqlalchemy as sa

from kettlefield.core.as_dict import as_dict
from kettlefield.record import schema
from kettlefield.record.entries import (
    ExchangeEntry,
    MemoryEntry,
    NoteEntry,
    ProcedureEntry,
    SessionChange,
    TrialEntry,
    inserted,
    put_attempt,
    put_exchange,
)

P = TypeVar("P")


class Kind(msgspec.Struct, Generic[P], frozen=True, kw_only=True):
    """A kind of write: what it is given, and how that becomes rows, whole or not at all."""

    name: str
    payload: type[P]
    write: Callable[[sa.Connection, float, P], None]  # the moment is in seconds since the epoch

    def write_now(self, connection: sa.Connection, payload: P) -> None:
        """Write it as of this moment."""
        self.write(connection, time.time(), payload)

    def plain(self, payload: P) -> Any:
        """The payload as plain data, bytes in base64."""
        return msgspec.to_builtins(payload)

    def typed(self, plain: Any) -> P:
        """The inverse of ``plain``.

        Raises
        ------
        msgspec.ValidationError
            It is something else.
        """
        return msgspec.convert(plain, self.payload)


def _write_trial(connection: sa.Connection, at: float, entry: TrialEntry) -> None:
    row = {
        "candidate_id": entry.candidate_id,
        "exercise_id": entry.exercise_id,
        "sample": entry.sample,
        "seed": entry.seed,
        "context_fill": entry.context_fill,
        "outcome": entry.outcome.value,
        "first_outcome": entry.first_outcome.value,
        "score": entry.attempts[-1].score,
        "attempts": len(entry.attempts),
        "finished_at": at,
    }
    trial_id = inserted(connection, schema.trial, row)
    for number, attempt in enumerate(entry.attempts, 1):
        put_attempt(connection, trial_id, number, attempt)


def _write_exchange(connection: sa.Connection, _: float, entry: ExchangeEntry) -> None:
    put_exchange(connection, entry)


def _write_procedure(connection: sa.Connection, at: float, entry: ProcedureEntry) -> None:
    row = {**as_dict(entry), "facts": json.dumps(entry.facts), "ended_at": at}
    connection.execute(schema.procedure.insert().values(**row))


def _write_note(connection: sa.Connection, at: float, entry: NoteEntry) -> None:
    note = schema.note
    same = sa.select(note.c.id).where(
        note.c.text == schema.storable(entry.text), note.c.candidate_id.is_not_distinct_from(entry.candidate_id)
    )
    if connection.execute(same).first() is None:
        connection.execute(note.insert().values(at=at, **as_dict(entry)))


def _write_session_change(connection: sa.Connection, _: float, entry: SessionChange) -> None:
    table = schema.session
    connection.execute(table.update().where(table.c.id == entry.session_id).values(**entry.values))


class MemoryChange(msgspec.Struct, frozen=True, kw_only=True):
    """The later state of a phase's memory, in the place of the row that is there."""

    row_id: int
    entry: MemoryEntry


def _write_memory_change(connection: sa.Connection, _: float, change: MemoryChange) -> None:
    table = schema.memory_block
    connection.execute(table.update().where(table.c.id == change.row_id).values(**as_dict(change.entry)))


TRIAL = Kind(name="trial", payload=TrialEntry, write=_write_trial)
EXCHANGE = Kind(name="exchange", payload=ExchangeEntry, write=_write_exchange)
PROCEDURE = Kind(name="procedure", payload=ProcedureEntry, write=_write_procedure)
NOTE = Kind(name="note", payload=NoteEntry, write=_write_note)
SESSION = Kind(name="session", payload=SessionChange, write=_write_session_change)
MEMORY = Kind(name="memory", payload=MemoryChange, write=_write_memory_change)
KINDS: dict[str, Kind[Any]] = {kind.name: kind for kind in (TRIAL, EXCHANGE, PROCEDURE, NOTE, SESSION, MEMORY)}
