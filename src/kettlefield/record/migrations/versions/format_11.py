"""Format 10 to 11: tables for runs in a workspace, empty in older records, which had none."""

from alembic import op

revision = "11"
down_revision = "10"

_TABLES = (
    "CREATE TABLE workspace_run (id INTEGER NOT NULL PRIMARY KEY, "
    "attempt_id INTEGER NOT NULL REFERENCES attempt (id), form VARCHAR NOT NULL, ended VARCHAR NOT NULL, "
    "diff BLOB NOT NULL, lines_changed INTEGER NOT NULL, own_lines_changed INTEGER NOT NULL, "
    "completion_tokens INTEGER NOT NULL, model_s FLOAT NOT NULL, tools_s FLOAT NOT NULL)",
    "CREATE TABLE workspace_turn (id INTEGER NOT NULL PRIMARY KEY, "
    "attempt_id INTEGER NOT NULL REFERENCES attempt (id), number INTEGER NOT NULL, "
    "exchange_id INTEGER NOT NULL REFERENCES exchange (id), calls BLOB NOT NULL, results_left_out INTEGER NOT NULL)",
)


def upgrade() -> None:
    """Add the tables and their indexes."""
    for table in _TABLES:
        op.execute(table)
    for name in ("workspace_run", "workspace_turn"):
        op.execute(f"CREATE INDEX ix_{name}_attempt_id ON {name} (attempt_id)")
