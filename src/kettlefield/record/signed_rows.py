"""What signatures cover: a digest over every row of a record, as each format had it; and the signatures themselves."""

import hashlib
import json
from collections.abc import Iterator, Mapping
from typing import Any

import sqlalchemy as sa

from kettlefield.record import schema
from kettlefield.record.earlier import COLUMNS_OF_7, NEW_IN_8, TABLES_OF_7
from kettlefield.record.entries import SignatureEntry
from kettlefield.record.store import Record

FORMAT = schema.FORMAT  # under which a record is signed now
_ASIDE = {"meta", "signature", "run_writer", schema.format_version.name}  # what a signature does not cover
# the order in which tables are hashed is part of what was signed: what comes later is added at the end
_ORDER = (
    *("campaign", "candidate", "exercise", "prompt", "judgement", "look", "mark", "note", "session", "trial"),
    *("exchange", "memory_block", "procedure", "server_metrics", "attempt", "check_result", "picture"),
    *("workspace_run", "workspace_turn", "rig"),
)
assert set(_ORDER) == set(schema.metadata.tables) - _ASIDE, "a table is neither signed nor left aside"  # noqa: S101
# how formats up to 7 hashed the tables: in this order, those that came later only where they hold something
_ORDER_OF_7 = (
    *("campaign", "candidate", "exercise", "prompt", "judgement", "mark", "note", "session", "trial", "exchange"),
    *("memory_block", "procedure", "attempt", "check_result", "picture"),
)
_FIRST_IN = {
    "server_metrics": 9,
    "workspace_run": 11,
    "workspace_turn": 11,
    "look": 12,
    "rig": 13,
}  # tables that came later than names did: an older signature does not know them
_ROWS_AT_ONCE = 1000
_LATER_IN_7 = frozenset({"picture", "mark", "judgement"})


def signatures(record: Record) -> tuple[SignatureEntry, ...]:
    """Every signature, oldest first."""
    table = schema.signature
    with record.reading() as connection:
        rows = list(connection.execute(sa.select(table).order_by(table.c.id)).mappings())
    names = SignatureEntry.__struct_fields__
    return tuple(
        SignatureEntry(**{name: json.loads(row[name]) if name == "verdicts" else row[name] for name in names})
        for row in rows
    )


def results_digest(record: Record, version: int | None) -> str:
    """A digest over every row of the record but the signatures, whatever wrote it.

    What is NULL is left out, so that a column that a newer format adds leaves the digest of an older record as it
    was: every such column must be NULL in the rows that were there before.

    Parameters
    ----------
    record : Record
        An open record.
    version : int, optional
        The format under which it was signed; None: 7 or older, whose names of tables and columns are hashed, and
        nothing that later formats added.
    """
    total = hashlib.sha256()
    names = [name for name in _ORDER if _FIRST_IN.get(name, 0) <= version] if version is not None else _ORDER_OF_7
    with record.reading() as connection:
        for table in (schema.metadata.tables[name] for name in names):
            query = sa.select(table).order_by(*table.primary_key.columns)
            if version is None and table.name in _LATER_IN_7 and connection.execute(query.limit(1)).first() is None:
                continue
            name = table.name if version is not None else TABLES_OF_7.get(table.name, table.name)
            total.update(f"\0{name}\0".encode())
            # a million rows are not held at once
            for row in connection.execution_options(yield_per=_ROWS_AT_ONCE).execute(query).mappings():
                for part in _parts(dict(row) if version is not None else _row_of_7(table.name, row)):
                    total.update(part)
    return f"sha256:{total.hexdigest()}"


def _row_of_7(table: str, row: Mapping[Any, Any]) -> dict[str, Any]:
    """A row as format 7 had it."""
    names, new = COLUMNS_OF_7.get(table, {}), NEW_IN_8.get(table, ())
    return {names.get(name, name): value for name, value in row.items() if name not in new}


def _parts(row: Mapping[str, Any]) -> Iterator[bytes]:
    """Every value with its name, type and length, so that no two rows are encoded the same."""
    for name in sorted(row):
        value = row[name]
        if value is not None:
            data = value if isinstance(value, bytes) else repr(value).encode()
            yield f"{name}:{type(value).__name__}:{len(data)}:".encode()
            yield data
    yield b"\n"
