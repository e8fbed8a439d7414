"""Format 7 to 8: the trade's names for columns, and facts that were parsed out of texts in columns of their own.

Values stay as they were written, since signatures cover them; ``record/earlier.py`` says what they are called now.
"""

import re
from typing import Any

import sqlalchemy as sa
from alembic import op

from kettlefield.record.earlier import COLUMNS_OF_7, TABLES_OF_7
from kettlefield.record.migrations.column_types import BYTES, TEXT

revision = "8"
down_revision = "7"

_ADDED: dict[str, dict[str, sa.types.TypeEngine[Any]]] = {
    "exercise": {"suite_name": TEXT, "suite_seed": BYTES, "own_id": TEXT},
    "session": {"simulated": sa.Boolean()},
    "memory_block": {"concurrency": sa.Integer()},
    "signature": {"format": sa.Integer()},
}
_ID = re.compile(r"(?P<suite>[^/:]+)(?::(?P<seed>\d+))?/(?P<own>.+)")  # berthdesk:3/fog-index: of several suites
_PHASE = re.compile(r"clients (\d+)")


def upgrade() -> None:
    """Rename, add, and fill what is added."""
    for now, before in TABLES_OF_7.items():
        op.rename_table(before, now)
    for table, names in COLUMNS_OF_7.items():
        for now, before in names.items():
            op.execute(f'ALTER TABLE "{table}" RENAME COLUMN "{before}" TO "{now}"')
    for table, columns in _ADDED.items():
        for name, kind in columns.items():
            op.add_column(table, sa.Column(name, kind))
    connection = op.get_bind()
    connection.execute(sa.text("UPDATE session SET simulated = (description LIKE '%simulated%')"))
    for (exercise_id,) in connection.execute(sa.text("SELECT id FROM exercise")).all():
        if (parts := _ID.fullmatch(exercise_id)) is not None:
            connection.execute(
                sa.text("UPDATE exercise SET suite_name = :suite, suite_seed = :seed, own_id = :own WHERE id = :id"),
                {"id": exercise_id, "suite": parts["suite"], "seed": int(parts["seed"] or 0), "own": parts["own"]},
            )
    for row_id, phase in connection.execute(sa.text("SELECT id, phase FROM memory_block")).all():
        if (parts := _PHASE.fullmatch(phase)) is not None:
            connection.execute(
                sa.text("UPDATE memory_block SET concurrency = :count WHERE id = :id"),
                {"id": row_id, "count": int(parts[1])},
            )
    connection.execute(sa.text("DELETE FROM meta WHERE key = 'schema_version'"))
