"""Format 9 to 10: exercises tell of the long text that they are about, NULL in older ones, which had none."""

from alembic import op

revision = "10"
down_revision = "9"


def upgrade() -> None:
    """Add the column."""
    op.execute("ALTER TABLE exercise ADD COLUMN refer VARCHAR")
