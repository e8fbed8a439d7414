"""Format 11 to 12: campaigns that stop when it is decided; older ones asked everything."""

import sqlalchemy as sa
from alembic import op

from kettlefield.record.migrations.column_types import TEXT, id_column, of

revision = "12"
down_revision = "11"


def upgrade() -> None:
    """Add the columns, the table and its index."""
    op.add_column("campaign", sa.Column("until", TEXT))
    op.add_column("exercise", sa.Column("block", sa.Integer))
    op.create_table(
        "look",
        id_column(),
        of("candidate"),
        sa.Column("at", sa.Float, nullable=False),
        *(sa.Column(name, sa.Integer, nullable=False) for name in ("block", "criterion", "exercises", "planned")),
        sa.Column("confidence", sa.Float, nullable=False),
        *(sa.Column(name, sa.Float) for name in ("value", "low", "high")),
        sa.Column("trials", sa.Integer, nullable=False),
        sa.Column("status", TEXT, nullable=False),
        sa.Column("reason", TEXT, nullable=False),
        sa.UniqueConstraint("candidate_id", "block", "criterion"),
    )
