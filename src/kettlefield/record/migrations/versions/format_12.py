"""Format 11 to 12: campaigns that stop when it is decided; older ones asked everything."""

from alembic import op

revision = "12"
down_revision = "11"

_LOOK = (
    "CREATE TABLE look (id INTEGER NOT NULL PRIMARY KEY, candidate_id INTEGER NOT NULL REFERENCES candidate (id), "
    "at FLOAT NOT NULL, block INTEGER NOT NULL, criterion INTEGER NOT NULL, exercises INTEGER NOT NULL, "
    "planned INTEGER NOT NULL, confidence FLOAT NOT NULL, value FLOAT, low FLOAT, high FLOAT, "
    "trials INTEGER NOT NULL, status VARCHAR NOT NULL, reason VARCHAR NOT NULL, "
    "UNIQUE (candidate_id, block, criterion))"
)


def upgrade() -> None:
    """Add the columns, the table and its index."""
    op.execute("ALTER TABLE campaign ADD COLUMN until VARCHAR")
    op.execute("ALTER TABLE exercise ADD COLUMN block INTEGER")
    op.execute(_LOOK)
    op.execute("CREATE INDEX ix_look_candidate_id ON look (candidate_id)")
