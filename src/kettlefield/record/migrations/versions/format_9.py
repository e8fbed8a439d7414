"""Format 8 to 9: trials tell what share of the context was taken, NULL in older ones; what servers say themselves."""

import sqlalchemy as sa
from alembic import op

from kettlefield.record.migrations.column_types import ID, TEXT, id_column, of

revision = "9"
down_revision = "8"

_KEPT = "id, candidate_id, exercise_id, sample, seed, outcome, first_outcome, score, attempts, finished_at"
_RULE = "CREATE UNIQUE INDEX one_trial_each ON trial (candidate_id, exercise_id, sample, coalesce(context_fill, 0.0))"


def upgrade() -> None:
    """Let one exercise be asked at several fills of the context: the old rule of one trial a sample goes."""
    if op.get_bind().dialect.name == "sqlite":
        _make_again()
    else:
        (rule,) = sa.inspect(op.get_bind()).get_unique_constraints("trial")
        op.drop_constraint(str(rule["name"]), "trial", type_="unique")
        op.add_column("trial", sa.Column("context_fill", sa.Float))
    op.execute(_RULE)
    op.create_table("server_metrics", id_column(), of("session"), sa.Column("looks", sa.LargeBinary, nullable=False))


def _make_again() -> None:
    """There the old rule stands in the table's definition, which cannot be changed."""
    # attempts point at trials, which are away for a moment
    op.execute("PRAGMA defer_foreign_keys = ON")
    op.execute(f"CREATE TABLE kept_trial AS SELECT {_KEPT} FROM trial")  # noqa: S608 - names of ours
    op.drop_table("trial")
    op.create_table(
        "trial",
        id_column(),
        of("candidate"),
        sa.Column("exercise_id", TEXT, sa.ForeignKey("exercise.id"), nullable=False),
        sa.Column("sample", sa.Integer, nullable=False),
        sa.Column("seed", ID, nullable=False),
        sa.Column("context_fill", sa.Float),
        sa.Column("outcome", TEXT, nullable=False),
        sa.Column("first_outcome", TEXT, nullable=False),
        sa.Column("score", sa.Float, nullable=False),
        sa.Column("attempts", sa.Integer, nullable=False),
        sa.Column("finished_at", sa.Float, nullable=False),
    )
    op.execute(f"INSERT INTO trial ({_KEPT}) SELECT {_KEPT} FROM kept_trial")  # noqa: S608
    op.drop_table("kept_trial")
