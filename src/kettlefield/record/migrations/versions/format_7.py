"""Formats 1 to 6 to format 7. A column that is added is NULL in older rows: signatures leave out what is NULL."""

import sqlalchemy as sa
from alembic import op

revision = "7"
down_revision = None

UPGRADES = {
    1: (
        "ALTER TABLE attempt ADD COLUMN turn INTEGER NOT NULL DEFAULT 1",
        "ALTER TABLE trial ADD COLUMN first_outcome VARCHAR NOT NULL DEFAULT ''",
        "UPDATE trial SET first_outcome ="
        " (SELECT outcome FROM attempt WHERE attempt.trial_id = trial.id AND attempt.number = 1)",
    ),
    2: (
        "ALTER TABLE exercise ADD COLUMN suite VARCHAR NOT NULL DEFAULT ''",
        "ALTER TABLE exercise ADD COLUMN weight FLOAT NOT NULL DEFAULT 1",
        "ALTER TABLE exercise ADD COLUMN varies BOOLEAN NOT NULL DEFAULT 0",
        "ALTER TABLE session ADD COLUMN load_kind VARCHAR NOT NULL DEFAULT 'as found'",
        "ALTER TABLE session ADD COLUMN first_answer_s FLOAT",
        "ALTER TABLE exchange ADD COLUMN point VARCHAR",
        "ALTER TABLE exchange ADD COLUMN disturbed VARCHAR",
        "ALTER TABLE exchange ADD COLUMN scheduled_lag_s FLOAT",
        "ALTER TABLE exchange ADD COLUMN memory_bytes INTEGER",
        "ALTER TABLE exchange ADD COLUMN events INTEGER NOT NULL DEFAULT 0",
        "ALTER TABLE exchange ADD COLUMN thinking_tokens INTEGER NOT NULL DEFAULT 0",
        "UPDATE exchange SET purpose = 'latency' WHERE purpose = 'speed'",
        "ALTER TABLE memory_block ADD COLUMN end_bytes INTEGER NOT NULL DEFAULT 0",
        "UPDATE memory_block SET end_bytes = peak_bytes",
        "ALTER TABLE memory_block ADD COLUMN mapped_peak_bytes INTEGER NOT NULL DEFAULT 0",
        "ALTER TABLE memory_block ADD COLUMN energy_j FLOAT",
        "ALTER TABLE memory_block ADD COLUMN energy_from VARCHAR",
        "UPDATE exercise SET suite = (SELECT suite_name FROM campaign)",
    ),
    3: (),  # the new table is made where it is missing
    4: (
        "ALTER TABLE candidate ADD COLUMN baseline BOOLEAN",
        "ALTER TABLE session ADD COLUMN program VARCHAR",
    ),
    5: (
        "ALTER TABLE exercise ADD COLUMN not_measured VARCHAR",
        "ALTER TABLE exercise ADD COLUMN guidance VARCHAR",
    ),
    6: (
        "ALTER TABLE session ADD COLUMN preflight VARCHAR",
        "ALTER TABLE session ADD COLUMN loaded VARCHAR",
        "ALTER TABLE session ADD COLUMN load_disturbed VARCHAR",
        *(f"ALTER TABLE {table} ADD COLUMN superseded_at FLOAT" for table in ("exchange", "memory_block", "procedure")),
    ),
}

LATER_TABLES = (
    "CREATE TABLE IF NOT EXISTS signature (id INTEGER NOT NULL PRIMARY KEY, at FLOAT NOT NULL,"
    " signed_by VARCHAR NOT NULL, note VARCHAR NOT NULL, verdicts VARCHAR NOT NULL, plan_digest VARCHAR NOT NULL,"
    " suite_digest VARCHAR NOT NULL, results_digest VARCHAR NOT NULL, previous_digest VARCHAR NOT NULL,"
    " digest VARCHAR NOT NULL)",
    "CREATE TABLE IF NOT EXISTS picture (id INTEGER NOT NULL PRIMARY KEY,"
    " attempt_id INTEGER NOT NULL REFERENCES attempt (id), width VARCHAR NOT NULL, png BLOB NOT NULL)",
    "CREATE INDEX IF NOT EXISTS ix_picture_attempt_id ON picture (attempt_id)",
    "CREATE TABLE IF NOT EXISTS mark (id INTEGER NOT NULL PRIMARY KEY, at FLOAT NOT NULL, marker VARCHAR NOT NULL,"
    " exercise_id VARCHAR NOT NULL REFERENCES exercise (id), item VARCHAR NOT NULL, showing INTEGER NOT NULL,"
    " value INTEGER, note VARCHAR NOT NULL, via VARCHAR NOT NULL)",
    "CREATE TABLE IF NOT EXISTS assessment (id INTEGER NOT NULL PRIMARY KEY, at FLOAT NOT NULL,"
    " assessor VARCHAR NOT NULL, exercise_id VARCHAR NOT NULL REFERENCES exercise (id), first_item VARCHAR NOT NULL,"
    " second_item VARCHAR, round INTEGER NOT NULL, value INTEGER, choice VARCHAR, reply BLOB NOT NULL,"
    " fault VARCHAR NOT NULL, UNIQUE (assessor, first_item, second_item, round))",
    "CREATE TABLE IF NOT EXISTS procedure (id INTEGER NOT NULL PRIMARY KEY,"
    " candidate_id INTEGER NOT NULL REFERENCES candidate (id), session_id INTEGER NOT NULL REFERENCES session (id),"
    " name VARCHAR NOT NULL, superseded_at FLOAT, ended_at FLOAT NOT NULL, why_ended VARCHAR NOT NULL,"
    " facts VARCHAR NOT NULL)",
    "CREATE INDEX IF NOT EXISTS ix_procedure_candidate_id ON procedure (candidate_id)",
    "CREATE INDEX IF NOT EXISTS ix_procedure_session_id ON procedure (session_id)",
)


def upgrade() -> None:
    """Bring a record of an older format to 7; nothing in it is lost."""
    connection = op.get_bind()
    tables = set(sa.inspect(connection).get_table_names())
    version = connection.execute(sa.text("SELECT value FROM meta WHERE key = 'schema_version'")).scalar_one()
    for old in range(int(version), 7):
        for statement in UPGRADES[old]:
            # a table that came later is made whole below
            if statement.split()[0] == "UPDATE" or statement.split()[2] in tables:
                op.execute(statement)
    for statement in LATER_TABLES:
        op.execute(statement)
