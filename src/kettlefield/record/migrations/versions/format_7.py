"""Formats 1 to 6 to format 7. A column that is added is NULL in older rows: signatures leave out what is NULL."""

from typing import Any

import sqlalchemy as sa
from alembic import op

from kettlefield.record.migrations.column_types import BYTES, TEXT, id_column, of

revision = "7"
down_revision = None

FILLED = {  # format that lacks it -> what the new columns hold
    1: (
        "UPDATE trial SET first_outcome ="
        " (SELECT outcome FROM attempt WHERE attempt.trial_id = trial.id AND attempt.number = 1)",
    ),
    2: (
        "UPDATE exchange SET purpose = 'latency' WHERE purpose = 'speed'",
        "UPDATE memory_block SET end_bytes = peak_bytes",
        "UPDATE exercise SET suite = (SELECT suite_name FROM campaign)",
    ),
}


def _added() -> dict[int, dict[str, tuple[sa.Column[Any], ...]]]:
    """What each format lacks: format -> table -> columns, made afresh, since a column belongs to one table."""
    return {
        1: {
            "attempt": (sa.Column("turn", sa.Integer, nullable=False, server_default="1"),),
            "trial": (sa.Column("first_outcome", TEXT, nullable=False, server_default=""),),
        },
        2: {
            "exercise": (
                sa.Column("suite", TEXT, nullable=False, server_default=""),
                sa.Column("weight", sa.Float, nullable=False, server_default="1"),
                sa.Column("varies", sa.Boolean, nullable=False, server_default=sa.false()),
            ),
            "session": (
                sa.Column("load_kind", TEXT, nullable=False, server_default="as found"),
                sa.Column("first_answer_s", sa.Float),
            ),
            "exchange": (
                sa.Column("point", TEXT),
                sa.Column("disturbed", TEXT),
                sa.Column("scheduled_lag_s", sa.Float),
                sa.Column("memory_bytes", BYTES),
                sa.Column("events", sa.Integer, nullable=False, server_default="0"),
                sa.Column("thinking_tokens", sa.Integer, nullable=False, server_default="0"),
            ),
            "memory_block": (
                sa.Column("end_bytes", BYTES, nullable=False, server_default="0"),
                sa.Column("mapped_peak_bytes", BYTES, nullable=False, server_default="0"),
                sa.Column("energy_j", sa.Float),
                sa.Column("energy_from", TEXT),
            ),
        },
        3: {},  # the new table is made where it is missing
        4: {"candidate": (sa.Column("baseline", sa.Boolean),), "session": (sa.Column("program", TEXT),)},
        5: {"exercise": (sa.Column("not_measured", TEXT), sa.Column("guidance", TEXT))},
        6: {
            "session": (sa.Column("preflight", TEXT), sa.Column("loaded", TEXT), sa.Column("load_disturbed", TEXT)),
            **{name: (sa.Column("superseded_at", sa.Float),) for name in ("exchange", "memory_block", "procedure")},
        },
    }


def _text(name: str) -> sa.Column[Any]:
    return sa.Column(name, TEXT, nullable=False)


def _exercise() -> sa.Column[Any]:
    return sa.Column("exercise_id", TEXT, sa.ForeignKey("exercise.id"), nullable=False)


def _at() -> sa.Column[Any]:
    return sa.Column("at", sa.Float, nullable=False)


def _later_tables() -> dict[str, tuple[sa.schema.SchemaItem, ...]]:
    """Tables that came later, made where they are missing: name -> columns."""
    digests = ("plan_digest", "suite_digest", "results_digest", "previous_digest", "digest")
    return {
        "signature": (_at(), _text("signed_by"), _text("note"), _text("verdicts"), *map(_text, digests)),
        "picture": (of("attempt"), _text("width"), sa.Column("png", sa.LargeBinary, nullable=False)),
        "mark": (
            *(_at(), _text("marker"), _exercise(), _text("item")),
            sa.Column("showing", sa.Integer, nullable=False),
            sa.Column("value", sa.Integer),
            *(_text("note"), _text("via")),
        ),
        "assessment": (
            *(_at(), _text("assessor"), _exercise(), _text("first_item"), sa.Column("second_item", TEXT)),
            sa.Column("round", sa.Integer, nullable=False),
            sa.Column("value", sa.Integer),
            sa.Column("choice", TEXT),
            sa.Column("reply", sa.LargeBinary, nullable=False),
            _text("fault"),
            sa.UniqueConstraint("assessor", "first_item", "second_item", "round"),
        ),
        "procedure": (
            *(of("candidate"), of("session"), _text("name"), sa.Column("superseded_at", sa.Float)),
            sa.Column("ended_at", sa.Float, nullable=False),
            *(_text("why_ended"), _text("facts")),
        ),
    }


def upgrade() -> None:
    """Bring a record of an older format to 7; nothing in it is lost."""
    connection = op.get_bind()
    tables = set(sa.inspect(connection).get_table_names())
    version = connection.execute(sa.text("SELECT value FROM meta WHERE key = 'schema_version'")).scalar_one()
    added = _added()
    for old in range(int(version), 7):
        for table, columns in added[old].items():
            for column in columns if table in tables else ():  # a table that came later is made whole below
                op.add_column(table, column)
        for statement in FILLED.get(old, ()):
            op.execute(statement)
    for table, items in _later_tables().items():
        if table not in tables:
            op.create_table(table, id_column(), *items)
