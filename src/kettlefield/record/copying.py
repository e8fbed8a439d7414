"""A campaign copied between a file and a database: every row with its id, so that digests and signatures hold."""

from collections.abc import Callable, Iterator

import sqlalchemy as sa

from kettlefield.core.errors import InputError
from kettlefield.record import schema
from kettlefield.record.place import DatabasePlace, FilePlace, Place, name_of_title
from kettlefield.record.signed_rows import FORMAT, results_digest
from kettlefield.record.store import Record

_ROWS_AT_ONCE = 500
_ASIDE = frozenset({schema.format_version.name, schema.run_writer.name})  # of the place, not of the campaign


def copy_campaign(source: Place, target: Place, on_rows: Callable[[int], None] = lambda _: None) -> tuple[Record, int]:
    """Copy a campaign to where there is none yet; the copy, and how many rows it has.

    Parameters
    ----------
    source, target : Place
        From and to; a database without a campaign's name takes the source's, or the name that its title makes.
    on_rows : callable
        Is told how many rows are copied by now.

    Raises
    ------
    InputError
        There is no such campaign, the target has one of this name already, or the copy would not be the same.
    RigError
        A database does not answer, or the target cannot be written to.
    """
    record = Record.open(source)
    target = _named(record, target)
    if Record.is_there(target):
        hint = "Name another file." if isinstance(target, FilePlace) else "Write another #NAME behind the URL."
        raise InputError("there is a campaign already", str(target), hint)
    copy = Record.create_or_open(target)
    try:
        count = copy.write_all(lambda connection: _copy_rows(record, connection, on_rows))
        if results_digest(copy, FORMAT) != results_digest(record, FORMAT):
            hint = "Text with the character NUL, as old records may hold, is one thing that a database cannot hold."
            raise InputError("cannot be copied without a change", str(record.place), hint)
    except BaseException:
        copy.destroy()
        raise
    return copy, count


def _named(record: Record, target: Place) -> Place:
    if not isinstance(target, DatabasePlace) or target.campaign is not None:
        return target
    if isinstance(record.place, DatabasePlace) and record.place.campaign is not None:
        return target.named(record.place.campaign)
    campaign = record.campaign()
    if campaign is None:
        raise InputError("holds no campaign yet", str(record.place), "Copy it after it has begun.")
    return target.named(name_of_title(campaign["title"]))


def _copy_rows(record: Record, connection: sa.Connection, on_rows: Callable[[int], None]) -> int:
    total = 0
    connection.execute(schema.meta.delete())  # who made the record is copied too
    with record.snapshot() as reading:
        for table in schema.metadata.sorted_tables:
            if table.name in _ASIDE:
                continue
            for rows in _batches(reading, table):
                connection.execute(table.insert(), rows)
                total += len(rows)
                on_rows(total)
            if connection.dialect.name == "postgresql" and table.autoincrement_column is not None:
                _count_on(connection, table)
    return total


def _batches(reading: sa.Connection, table: sa.Table) -> Iterator[list[dict[str, object]]]:
    query = sa.select(table).order_by(*table.primary_key.columns)
    result = reading.execution_options(yield_per=_ROWS_AT_ONCE).execute(query)
    for partition in result.mappings().partitions():
        yield [dict(row) for row in partition]


def _count_on(connection: sa.Connection, table: sa.Table) -> None:
    """Let the next row's id follow the last one's: rows that bring their own do not move the counter."""
    most = connection.execute(sa.select(sa.func.max(table.c.id))).scalar_one_or_none()
    if most is not None:
        sequence = sa.func.pg_get_serial_sequence(f'"{table.name}"', "id")
        connection.execute(sa.select(sa.func.setval(sequence, most)))
