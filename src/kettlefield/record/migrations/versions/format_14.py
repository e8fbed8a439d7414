"""Format 13 to 14: answers that rigs share, and who graded a reply; in older records each rig did both itself."""

import sqlalchemy as sa
from alembic import op

from kettlefield.record.migrations.column_types import BYTES, TEXT

revision = "14"
down_revision = "13"


def upgrade() -> None:
    """Add the columns."""
    op.add_column("candidate", sa.Column("runtime", TEXT))
    op.add_column("candidate", sa.Column("answers_from_id", BYTES))
    op.add_column("attempt", sa.Column("graded_by", TEXT))
