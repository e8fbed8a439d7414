"""Campaigns that stop when it is decided: what is asked, what is seen at each look, killed, resumed, refused."""

import json
import shutil
import sqlite3

import pytest
from test_qualify import start, trials_in, wait_for_trials

RATE = '[[criterion]]\nmeasure = "pass_rate"\nat_least = 0.3\n'
NO_WORSE = '[[criterion]]\nmeasure = "pass_rate"\nno_worse_than = "reference"\nmargin = 0.35\n'
QUICK = '[[criterion]]\nmeasure = "ttft_s.p50"\nat_most = "2 s"\n'
TABLES = {"campaign": 'until = "decided"', "grading": "samples = 2\nconcurrent_trials = 4", "speed": "requests = 40"}
LEVELS = (("f16", "reference = true"), ("q8_0", ""), ("q2_k", ""))


def looks_in(record):
    with sqlite3.connect(record) as connection:
        rows = connection.execute(
            "SELECT name, block, criterion, exercises, confidence, value, status FROM look JOIN candidate ON candidate.id "
            "= candidate_id ORDER BY look.id"
        ).fetchall()
    connection.close()
    return rows


def asked_of(record):
    with sqlite3.connect(record) as connection:
        rows = connection.execute(
            "SELECT name, count(DISTINCT exercise_id) FROM trial JOIN candidate ON candidate.id = candidate_id GROUP BY 1"
        ).fetchall()
    connection.close()
    return dict(rows)


def test_each_candidate_stops_when_it_is_decided(make_plan, run_main, tmp_path):
    plan = make_plan(candidates=LEVELS, tables=TABLES, criteria=RATE.replace("0.3", "0.6") + NO_WORSE + QUICK)
    record = tmp_path / "record.db"
    done = run_main("qualify", plan)
    assert done.code == 0, done.err
    assert "after 6 of 12 exercises: pass_rate at least 0.6" in done.err
    asked, looks = asked_of(record), looks_in(record)
    assert asked["kelpling-400m@q2_k"] == 6 < asked["kelpling-400m@f16"]  # it solves next to nothing
    assert asked["kelpling-400m@q8_0"] <= asked["kelpling-400m@f16"] <= 12
    document = run_main("compare", record, "--part", "looks", "--json").json
    assert document["blocks"] == 2 and len(document["looks"]) == len(looks) == len({look[:3] for look in looks})
    verdicts = {one["candidate"]: one for one in run_main("decide", record, "--json").json["verdicts"]}
    failed = verdicts["kelpling-400m@q2_k"]
    assert failed["verdict"] == "rejected"
    assert any("decided after 6 of 12 exercises" in one["reason"] for one in failed["criteria"])
    # timing stops when it is decided too, and its bound is one for several looks
    with sqlite3.connect(record) as connection:
        ends = connection.execute("SELECT why_ended, facts FROM procedure WHERE name = 'latency'").fetchall()
        (timed,) = connection.execute("SELECT count(*) FROM exchange WHERE purpose = 'latency'").fetchone()
    connection.close()
    assert {why for why, _ in ends} == {"decided"} and timed == 30
    assert json.loads(ends[0][1])["looks"] == [10] and json.loads(ends[0][1])["most_requests"] == 40
    assert run_main("decide", record, "--by", "R. Tern").code in (0, 1, 4)
    assert run_main("decide", record, "--audit").code == 0
    page = run_main("report", record, "-o", tmp_path / "out")
    text = (tmp_path / "out" / "report.html").read_text()
    assert page.code == 0 and "How it was decided" in text and "stopped when decided" in text
    # nothing is left to do, and how often one looks is not changed afterwards
    ahead = run_main("qualify", plan, "--dry-run", "--json").json
    assert [row["trials"] for row in ahead["candidates"]] == [0, 0, 0]
    assert {row["status"] for row in ahead["decisions"] if row["candidate"] == "kelpling-400m@q2_k"} <= {
        "not met", "not needed",
    }  # fmt: skip
    again = run_main("qualify", plan)
    assert again.code == 0 and looks_in(record) == looks and asked_of(record) == asked
    text = plan.read_text()
    plan.write_text(text.replace('until = "decided"', 'until = "decided"\nlooks = 2'))
    assert "changed since: campaign" in run_main("qualify", plan).err
    plan.write_text(text.replace('until = "decided"', ""))
    refused = run_main("qualify", plan)
    assert refused.code == 2 and "stops when it is decided; the plan now asks everything" in refused.err
    with sqlite3.connect(record) as connection:
        connection.execute("UPDATE look SET value = 0.9 WHERE criterion = 1")
    connection.close()
    audited = run_main("decide", record, "--audit")
    assert audited.code == 1 and "does not follow from its trials" in audited.out


def test_killed_between_looks_it_goes_on_with_the_same_sequence(make_plan, program, run_main, tmp_path):
    plan = make_plan(
        candidates=(("f16", "reference = true"), ("q4_k_m", "")),
        tables=TABLES | {"grading": "samples = 1\nconcurrent_trials = 2", "speed": "requests = 0"},
        criteria=RATE.replace("0.3", "0.75") + NO_WORSE,
    )
    record = tmp_path / "record.db"
    kept = []
    for count in (4, 8, 14):
        process = start(program, plan)
        wait_for_trials(record, count, process)
        process.kill()
        process.communicate()
        now = looks_in(record)
        assert now[: len(kept)] == kept
        kept = now
    assert run_main("qualify", plan).code == 0
    rows, looks = trials_in(record), looks_in(record)
    assert len(rows) == len({row[:3] for row in rows}) and looks[: len(kept)] == kept
    assert len(looks) == len({look[:3] for look in looks})
    assert [look[3] for look in looks if look[0].endswith("q4_k_m") and look[2] == 1] in ([6], [6, 12])
    assert run_main("decide", record, "--audit").code in (0, 4)  # every look follows from its trials


def test_what_fails_without_an_answer_never_sees_the_suite(make_plan, run_main, tmp_path):
    small = '[[criterion]]\nmeasure = "weights_bytes"\nat_most = "1 kB"\n'
    plan = make_plan(tables={"grading": "concurrent_trials = 4"}, criteria=RATE + small)
    record = tmp_path / "record.db"
    done = run_main("qualify", plan, "--until-decided")
    assert done.code == 0 and "never saw the suite: weights_bytes at most 1 kB is not met" in done.err
    with sqlite3.connect(record) as connection:
        assert connection.execute("SELECT count(*) FROM session").fetchone() == (0,)  # no server was started
    connection.close()
    assert run_main("decide", record, "--json").json["verdicts"][0]["verdict"] == "rejected"
    # nor is anything left to do, though nothing was done; a candidate that is new in the plan has all before it
    text, extra = plan.read_text(), '[[candidate]]\nmodel = "late"\nlevel = "q4_k_m"\n'
    weights = next(line for line in text.splitlines() if line.startswith("weights ="))
    later = plan.with_name("later.toml")
    later.write_text(text + f"{extra}{weights}\nrequests = 4\n")
    ahead = run_main("qualify", later, "--until-decided", "--dry-run", "--json").json
    left = [(row["candidate"], row["trials"], row["timed_requests"]) for row in ahead["candidates"]]
    assert left == [("kelpling-400m@q4_k_m", 0, 0), ("late@q4_k_m", 12, 4)]
    assert [row["status"] for row in ahead["decisions"]] == ["not needed", "undecided"]
    assert "asks everything" in run_main("qualify", plan).err
    complete = run_main("qualify", plan, "--until-decided", "--complete")
    assert complete.code == 0 and len(trials_in(record)) == 12
    for path in tmp_path.glob("record.db*"):
        path.unlink()
    assert run_main("qualify", plan, "--complete").code == 2
    assert run_main("qualify", plan, "--part", "speed").code == 0  # begun without
    other_way = run_main("qualify", plan, "--until-decided")
    assert other_way.code == 2 and "asks everything; the plan now stops when it is decided" in other_way.err


def test_at_the_end_of_its_budget_it_says_what_is_open(make_plan, run_main, tmp_path):
    plan = make_plan(
        candidates=LEVELS[:2],
        tables={"campaign": 'until = "decided"\nbudget = "1 s"', "grading": "concurrent_trials = 4"},
        criteria=RATE,
    )
    ahead = run_main("qualify", plan, "--dry-run", "--json").json
    assert {one["candidate"] for one in ahead["decisions"]} == {"kelpling-400m@f16", "kelpling-400m@q8_0"}
    assert all(0 <= one["chance_in_budget"] <= one["chance"] <= 1 for one in ahead["decisions"])
    done = run_main("qualify", plan)
    assert "the budget of 1.00 s was over before all was decided" in done.err
    assert run_main("decide", tmp_path / "record.db").code == 4
    earlier = run_main("qualify", plan, "--dry-run", "--earlier", tmp_path / "record.db")
    assert earlier.code == 0 and "Likely to be decided" in earlier.out


@pytest.mark.parametrize(
    ("tables", "criteria", "words"),
    [
        ({"campaign": 'until = "decided"\nlooks = 1'}, RATE, "looks is 1"),
        ({"campaign": 'budget = "1 h"'}, RATE, "has a budget and asks everything"),
        ({"campaign": 'until = "soon"'}, RATE, "until"),
        (
            {"campaign": 'until = "decided"', "rig": 'accelerator = "simulated:card"\nblocks = 2'},
            RATE,
            "[rig] blocks is 2",
        ),
        ({"campaign": 'until = "decided"'}, "", "there is no criterion"),
    ],
)
def test_plans_that_cannot_stop_are_refused(make_plan, run_main, tables, criteria, words):
    done = run_main("qualify", make_plan(tables=tables, criteria=criteria))
    assert done.code == 2 and words in done.err and "Traceback" not in done.err


def test_too_few_exercises_and_criteria_that_wait_are_named(make_plan, run_main, tmp_path):
    waits = '[[criterion]]\nmeasure = "escape_attempts"\nat_most = 0\n'
    plan = make_plan(tables={"campaign": 'until = "decided"'}, criteria=RATE + waits)
    folders = sorted(path.parent for path in (tmp_path / "berthdesk").glob("*/exercise.toml"))
    for folder in folders[10:]:
        shutil.rmtree(folder)
    done = run_main("qualify", plan)
    assert done.code == 0 and "escape_attempts at most 0: can only be judged on the whole" in done.err
    assert len(trials_in(tmp_path / "record.db")) == 10  # nothing rejects it, so it was asked everything
    (tmp_path / "record.db").unlink()
    shutil.rmtree(folders[9])
    done = run_main("qualify", plan)
    assert done.code == 2 and "9 exercises are too few for two looks" in done.err
