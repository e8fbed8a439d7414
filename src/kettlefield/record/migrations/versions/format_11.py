"""Format 10 to 11: tables for runs in a workspace, empty in older records, which had none."""

import sqlalchemy as sa
from alembic import op

from kettlefield.record.migrations.column_types import ID, TEXT, id_column, of

revision = "11"
down_revision = "10"


def upgrade() -> None:
    """Add the tables and their indexes."""
    op.create_table(
        "workspace_run",
        id_column(),
        of("attempt"),
        sa.Column("form", TEXT, nullable=False),
        sa.Column("ended", TEXT, nullable=False),
        sa.Column("diff", sa.LargeBinary, nullable=False),
        *(
            sa.Column(name, sa.Integer, nullable=False)
            for name in ("lines_changed", "own_lines_changed", "completion_tokens")
        ),
        *(sa.Column(name, sa.Float, nullable=False) for name in ("model_s", "tools_s")),
    )
    op.create_table(
        "workspace_turn",
        id_column(),
        of("attempt"),
        sa.Column("number", sa.Integer, nullable=False),
        sa.Column("exchange_id", ID, sa.ForeignKey("exchange.id"), nullable=False),
        sa.Column("calls", sa.LargeBinary, nullable=False),
        sa.Column("results_left_out", sa.Integer, nullable=False),
    )
