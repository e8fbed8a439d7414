"""Format 9 to 10: exercises tell of the long text that they are about, NULL in older ones, which had none."""

import sqlalchemy as sa
from alembic import op

from kettlefield.record.migrations.column_types import TEXT

revision = "10"
down_revision = "9"


def upgrade() -> None:
    """Add the column."""
    op.add_column("exercise", sa.Column("refer", TEXT))
