"""Scripted turns, openings and gaps through a whole campaign, on a private suite."""

import json
import sqlite3

import pytest
from exercises import write_exercise

from kettlefield.record import schema
from kettlefield.record.earlier import COLUMNS_OF_7, NEW_IN_8, TABLES_OF_7
from kettlefield.record.signed_rows import results_digest
from kettlefield.record.store import Record

GAP = "def rest(hours):\n    # what is left of a day, never below nothing\n    "
# what the first format did not have
NEWER_COLUMNS = {
    "attempt": "turn",
    "trial": "first_outcome",
    "exercise": "suite weight varies not_measured guidance",
    "exchange": "point disturbed scheduled_lag_s memory_bytes events thinking_tokens superseded_at",
    "session": "load_kind first_answer_s program preflight loaded load_disturbed",
    "candidate": "baseline",
    "memory_block": "end_bytes mapped_peak_bytes energy_j energy_from superseded_at",
}
# what came after format 8
AFTER_8 = (
    *("DROP INDEX one_trial_each", "ALTER TABLE trial DROP COLUMN context_fill"),
    *("ALTER TABLE exercise DROP COLUMN refer", "ALTER TABLE exercise DROP COLUMN block"),
    "ALTER TABLE campaign DROP COLUMN until",
    # a column that refers to a table cannot be dropped, but be out of the way
    "ALTER TABLE candidate RENAME COLUMN rig_id TO later",
    *("ALTER TABLE candidate DROP COLUMN runtime", "ALTER TABLE candidate DROP COLUMN answers_from_id"),
    "ALTER TABLE attempt DROP COLUMN graded_by",
    *(
        f"DROP TABLE {name}"
        for name in ("server_metrics", "workspace_run", "workspace_turn", "look", "rig", "run_writer")
    ),
)
CALLS = {"kind": "calls", "name": "c", "cases": "cases.json"}


@pytest.fixture
def suite(tmp_path):
    folder = tmp_path / "mine"
    folder.mkdir()
    (folder / "suite.toml").write_text('title = "Mine"\ndescription = "For a test."\n')
    one = "def total(x):\n    return sum(x)\n"
    two = one + "\n\ndef mean(x):\n    return sum(x) / len(x)\n"
    decoy = {"name": "short", "outcome": "wrong-answer", "mistake": "Forgets the first."}
    write_exercise(
        folder / "deck-total",
        {
            "kind": "extend",
            "check": [CALLS | {"function": "total"}],
            "turn": [{"check": [CALLS | {"name": "m", "function": "mean", "cases": "means.json"}]}],
            "decoy": [decoy, decoy | {"name": "breaks", "turn": 2, "mistake": "Breaks the total."}],
        },
        {
            "prompt.md": "Write a Python function total that adds up a list.\n",
            "prompt-2.md": "Now add a function mean.\n",
            "cases.json": [{"args": [[1, 2]], "expect": 3}],
            "means.json": [{"args": [[1, 2]], "expect": 1.5}],
            "answer/answer.py": one,
            "answer-2/answer.py": two,
            "decoys/short/answer.py": one.replace("(x)\n", "(x[1:])\n", 1).replace("sum(x)", "sum(x[1:])"),
            "decoys/breaks/answer.py": two.replace("return sum(x)\n", "return sum(x[1:])\n", 1),
        },
    )
    whole = GAP + "left = 24 - hours\n    return max(left, 0)\n"
    write_exercise(
        folder / "rest-hours",
        {"kind": "continue", "entry": "rest", "check": [CALLS | {"function": "rest"}], "decoy": [decoy]},
        {
            "prompt.md": "Complete the Python function rest.\n",
            "opening.txt": GAP,
            "cases.json": [{"args": [30], "expect": 0}],
            "answer/answer.py": whole,
            "decoys/short/answer.py": whole.replace("max(left, 0)", "left"),
        },
    )
    return folder


def run(make_plan, run_cli, suite, style, extra=""):
    plan = make_plan(
        candidates=[("f16", "")],
        tables={
            "grading": "concurrent_trials = 2\nsamples = 6",
            "prompting": f'style = "{style}"\npreflight = false\n{extra}',
        },
    )
    text = plan.read_text().replace('suite = "berthdesk"', 'suite = "mine"')
    plan.write_text(text.replace('"kettlefield.demo"', '"kettlefield.demo", "--suite", "mine"'))
    done = run_cli("qualify", plan, cwd=suite.parent)
    assert done.code == 0, done.err
    return suite.parent / "record.db"


@pytest.mark.parametrize(
    ("style", "extra"),
    [("chat", ""), ("continuation", ""), ("infill", 'infill_markers = ["<PRE>", "<SUF>", "<MID>"]')],
)
def test_turns_and_openings_are_asked_in_every_style(make_plan, run_cli, run_main, suite, style, extra):
    record = run(make_plan, run_cli, suite, style, extra)
    trials = run_main("trials", record, "--json").json["trials"]
    assert {(t["exercise"], t["outcome"]) for t in trials} >= {("deck-total", "passed"), ("rest-hours", "passed")}
    passed = {t["exercise"]: t["id"] for t in trials if t["outcome"] == "passed"}
    turns = run_main("trials", record, "--open", passed["deck-total"], "--json").json["trial"]["attempts"]
    assert [attempt["turn"] for attempt in turns] == [1, 2]
    assert "Now add a function mean" in json.dumps(turns[1]["exchange"]["messages"])
    assert [check["name"] for check in turns[1]["checks"]] == ["c", "m"]
    gap = run_main("trials", record, "--open", passed["rest-hours"], "--json").json["trial"]["attempts"][0]
    sent = gap["exchange"]["messages"][-1]["content"]
    assert sent == {"continuation": GAP, "infill": f"<PRE>{GAP}<SUF><MID>"}.get(style, sent)
    assert gap["files"]["answer.py"].startswith(GAP)
    assert "turn 2" in run_main("trials", record, "--open", passed["deck-total"]).out


def test_a_record_of_the_first_format_is_brought_up_and_read_the_same(make_plan, run_cli, run_main, suite):
    record = run(make_plan, run_cli, suite, "chat")
    before = run_main("compare", record, "--json").json
    with sqlite3.connect(record) as connection:
        for now, before_8 in TABLES_OF_7.items():
            connection.execute(f"ALTER TABLE {now} RENAME TO {before_8}")
        for table, names in COLUMNS_OF_7.items():
            for now, before_8 in names.items():
                connection.execute(f"ALTER TABLE {TABLES_OF_7.get(table, table)} RENAME COLUMN {now} TO {before_8}")
        for table, names in NEW_IN_8.items():
            for column in names:
                connection.execute(f"ALTER TABLE {table} DROP COLUMN {column}")
        for table, columns in NEWER_COLUMNS.items():
            for column in columns.split():
                connection.execute(f"ALTER TABLE {table} DROP COLUMN {column}")
        for statement in AFTER_8:
            connection.execute(statement)
        for table in ("procedure", "signature", "picture", "mark", "assessment", "alembic_version"):
            connection.execute(f"DROP TABLE {table}")
        connection.execute("UPDATE exchange SET purpose = 'speed' WHERE purpose = 'latency'")
        connection.execute("INSERT INTO meta VALUES ('schema_version', '1')")
        # the first format knew one turn only
        connection.execute("DELETE FROM check_result")
        connection.execute("DELETE FROM attempt WHERE trial_id IN (SELECT id FROM trial WHERE attempts > 1)")
        connection.execute("DELETE FROM trial WHERE attempts > 1")
    connection.close()
    after = run_main("compare", record, "--json").json
    assert after["candidates"][0]["decode_tps"] == before["candidates"][0]["decode_tps"]
    with sqlite3.connect(record) as connection:
        assert connection.execute("SELECT version_num FROM alembic_version").fetchone() == (str(schema.FORMAT),)
        assert connection.execute("SELECT count(*) FROM trial WHERE first_outcome <> outcome").fetchone() == (0,)
        # no trial twice, as in a record of today, and attempts still point at their trials
        assert connection.execute("SELECT count(*) FROM sqlite_master WHERE name = 'one_trial_each'").fetchone() == (1,)
        assert connection.execute("PRAGMA foreign_key_check").fetchall() == []
    connection.close()


def test_a_signed_record_of_format_8_is_brought_up_whole_and_its_signature_holds(make_plan, run_cli, suite):
    path = run(make_plan, run_cli, suite, "chat")
    signed = results_digest(Record.open(path), 8)
    with sqlite3.connect(path) as connection:
        for statement in AFTER_8:
            connection.execute(statement)
        connection.execute("UPDATE alembic_version SET version_num = '8'")
        attempts = connection.execute("SELECT count(*) FROM attempt").fetchone()
    connection.close()
    assert results_digest(Record.open(path), 8) == signed and attempts[0] > 0
    with sqlite3.connect(path) as connection:
        assert connection.execute("SELECT version_num FROM alembic_version").fetchone() == (str(schema.FORMAT),)
        assert connection.execute("SELECT count(*) FROM attempt").fetchone() == attempts
        assert connection.execute("PRAGMA foreign_key_check").fetchall() == []
    connection.close()
