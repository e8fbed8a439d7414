"""Format 12 to 13: campaigns on several rigs, and runs that write into a database; older ones have one rig, a file."""

import sqlalchemy as sa
from alembic import op

from kettlefield.record.migrations.column_types import BYTES, TEXT, id_column

revision = "13"
down_revision = "12"


def upgrade() -> None:
    """Add the tables and the column."""
    op.create_table(
        "rig",
        id_column(),
        sa.Column("name", TEXT, nullable=False, unique=True),
        sa.Column("at", sa.Float, nullable=False),
        sa.Column("facts", TEXT, nullable=False),
        sa.Column("simulated", sa.Boolean, nullable=False),
        sa.Column("memory_budget_bytes", BYTES),
        sa.Column("cost_per_hour", sa.Float),
    )
    op.create_table(
        "run_writer",
        sa.Column("id", TEXT, primary_key=True),
        sa.Column("rig", TEXT, nullable=False),
        sa.Column("last_number", BYTES, nullable=False),
        sa.Column("started_at", sa.Float, nullable=False),
    )
    # as text: Alembic adds a reference in two steps, of which SQLite can take only the first
    op.execute("ALTER TABLE candidate ADD COLUMN rig_id BIGINT REFERENCES rig (id)")
