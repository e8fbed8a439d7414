"""Format 8 to 9: trials tell what share of the context was taken, NULL in older ones; what servers say themselves."""

from alembic import op

revision = "9"
down_revision = "8"

_KEPT = "id, candidate_id, exercise_id, sample, seed, outcome, first_outcome, score, attempts, finished_at"


def upgrade() -> None:
    """Make the table again: its old rule of one trial a sample stands in its definition."""
    # attempts point at trials, which are away for a moment
    op.execute("PRAGMA defer_foreign_keys = ON")
    op.execute(f"CREATE TABLE kept_trial AS SELECT {_KEPT} FROM trial")  # noqa: S608 - names of ours
    op.execute("DROP TABLE trial")
    op.execute(
        """CREATE TABLE trial (
            id INTEGER NOT NULL PRIMARY KEY,
            candidate_id INTEGER NOT NULL REFERENCES candidate (id),
            exercise_id VARCHAR NOT NULL REFERENCES exercise (id),
            sample INTEGER NOT NULL,
            seed INTEGER NOT NULL,
            context_fill FLOAT,
            outcome VARCHAR NOT NULL,
            first_outcome VARCHAR NOT NULL,
            score FLOAT NOT NULL,
            attempts INTEGER NOT NULL,
            finished_at FLOAT NOT NULL
        )"""
    )
    op.execute(f"INSERT INTO trial ({_KEPT}) SELECT {_KEPT} FROM kept_trial")  # noqa: S608
    op.execute("DROP TABLE kept_trial")
    op.execute("CREATE INDEX ix_trial_candidate_id ON trial (candidate_id)")
    op.execute(
        "CREATE UNIQUE INDEX one_trial_each ON trial (candidate_id, exercise_id, sample, coalesce(context_fill, 0.0))"
    )
    op.execute(
        """CREATE TABLE server_metrics (
            id INTEGER NOT NULL PRIMARY KEY,
            session_id INTEGER NOT NULL REFERENCES session (id),
            looks BLOB NOT NULL
        )"""
    )
    op.execute("CREATE INDEX ix_server_metrics_session_id ON server_metrics (session_id)")
