"""Campaigns on several rigs: what a plan for them may hold, who writes what, and which level is approved where."""

import json
import shutil
import socket
import threading
import time

import pytest
from database import Cluster

from kettlefield.core.errors import InputError
from kettlefield.plan.own_rig import on_rig, own_rig
from kettlefield.plan.plan import read_plan
from kettlefield.record.store import Record
from kettlefield.results.rig_rows import rig_rows, toolchains_that_differ
from kettlefield.rig.survey import own_fingerprint

HOST = socket.gethostname()
QUAY = 'name = "quay"\naccelerator = "simulated:card"\ndisturbed_above = 64.0\nmemory_budget = "2 GiB"\n'
ATTIC = QUAY.replace("quay", "attic").replace("2 GiB", "960 MiB")
CRITERIA = '[[criterion]]\nmeasure = "peak_bytes"\nat_most = "1100 MiB"\n'


@pytest.fixture
def several(make_plan):
    """A plan for several rigs, their tables given as text."""

    def make(*rigs, candidates=(("f16", "reference = true"), ("q2_k", "")), record=None, head=""):
        plan = make_plan(candidates=candidates, criteria=CRITERIA, head=head)
        text = plan.read_text()
        start = text.index("[rig]")
        end = text.index("[server]")
        tables = "".join(f"[[rig]]\n{rig}\n" for rig in rigs)
        text = text[:start] + tables + text[end:]
        plan.write_text(text.replace('"record.db"', json.dumps(record)) if record else text)
        return plan

    return make


@pytest.mark.parametrize(
    ("rigs", "extra", "said"),
    [
        ((QUAY.replace('"quay"', '"Quay 1"'),), "", 'name is "Quay 1"'),
        ((QUAY, QUAY), "", '"quay" appears twice'),
        ((QUAY + "cost_per_hour = -1.0",), "", "cost_per_hour is -1"),
        ((QUAY + "blocks = 0",), "", "blocks is 0"),
        ((QUAY + "budget = 1",), "", 'unknown key "budget"'),
        ((QUAY,), 'on = ["quai"]', 'Did you mean "quay"?'),
    ],
)
def test_a_plan_for_rigs_that_cannot_be_is_refused(several, rigs, extra, said):
    with pytest.raises(InputError) as caught:
        read_plan(several(*rigs, candidates=(("f16", extra),)))
    assert said in str(caught.value)


def test_which_rig_this_machine_is(several):
    here = f'fingerprint = "{own_fingerprint()}"\n'
    for rigs, labels, said in (
        ((QUAY + f'host = "{HOST}"\n', ATTIC + 'host = "attic-*"\n'), (), "quay"),
        ((QUAY, ATTIC + here), (), "attic"),
        ((QUAY + 'labels = ["gpu"]\n', ATTIC + 'labels = ["gpu", "big"]\n' + here), ("gpu",), "quay"),
        ((QUAY, ATTIC), (), None),
        ((QUAY + here, ATTIC + f'host = "*"\n{here}'), (), None),
    ):
        plan = read_plan(several(*rigs))
        if said is not None:
            assert own_rig(plan, None, labels) == said
        else:
            with pytest.raises(InputError, match="this machine .host .*--rig NAME"):
                own_rig(plan, None, labels)
    with pytest.raises(InputError, match='there is no rig "atic"'):
        own_rig(plan, "atic")


def test_a_candidate_runs_where_it_fits_and_where_the_plan_says(several, tmp_path):
    (tmp_path / "far").mkdir()
    plan = read_plan(
        several(
            QUAY, ATTIC, ATTIC.replace("attic", "far") + 'weights = "far"\n', candidates=(("f16", ""), ("q2_k", ""))
        )
    )
    assert [one.name for one in on_rig(plan, "quay").candidates] == [
        "kelpling-400m@f16 on quay",
        "kelpling-400m@q2_k on quay",
    ]
    attic = on_rig(plan, "attic")
    assert [one.name for one in attic.candidates] == ["kelpling-400m@q2_k on attic"]
    assert "kelpling-400m@f16 on attic: needs" in attic.left_out[0] and "budget 960 MiB" in attic.left_out[0]
    with pytest.raises(InputError, match="weights are not there"):
        on_rig(plan, "far")
    only = read_plan(several(QUAY, ATTIC, candidates=(("f16", 'on = ["quay"]'), ("q2_k", ""))))
    assert [one.name for one in only.candidates if one.level == "f16"] == ["kelpling-400m@f16 on quay"]


def test_rigs_of_the_same_runtime_share_answers_and_others_are_asked(several, run_main, tmp_path):
    loft, far = (QUAY.replace("quay", name) for name in ("loft", "far"))
    rigs = (QUAY, ATTIC, loft, far + 'weights = "elsewhere"\n')
    plan = several(*rigs, candidates=(("q2_k", ""),), head='[campaign]\nanswers = "once"\n')
    text = plan.read_text()
    assert '"{python}", "-m"' in text
    plan.write_text(text.replace('"{python}", "-m"', '"bash", "serve-{rig}", "{python}", "-m"'))
    for name in ("quay", "attic", "loft"):
        (tmp_path / f"serve-{name}").write_text('exec "$@"\n' + "# another state of it\n" * (name == "loft"))
    for name in ("quay", "attic", "loft"):
        assert run_main("qualify", plan, "--rig", name, "--part", "answers").code == 0
    record = tmp_path / "record.db"
    model = "kelpling-400m@q2_k on {}".format
    asked = {trial["candidate"] for trial in run_main("trials", record, "--json").json["trials"]}
    assert asked == {model("quay"), model("loft")}
    rows = {row["candidate"]: row for row in run_main("compare", record, "--json").json["candidates"]}
    quay, attic = rows[model("quay")], rows[model("attic")]
    assert attic["pass_rate"] == quay["pass_rate"] and attic["trials"] == quay["trials"] == 12
    # its machine was never asked, so nobody knows how long it would take there
    assert quay["seconds_per_solved"] and not attic["seconds_per_solved"]
    assert f"{model('attic')}: its answers are those of {model('quay')}" in run_main("compare", record, "--notes").out
    # nothing is left to do on either, and the way of asking stays as it is
    again = run_main("qualify", plan, "--rig", "attic", "--part", "answers")
    assert again.code == 0 and "12 trials, 12 of them already" in again.err, again.err
    kept = plan.read_text()
    plan.write_text(kept.replace('answers = "once"', 'answers = "each"'))
    changed = run_main("qualify", plan, "--rig", "attic")
    assert changed.code == 2 and "changed since: campaign" in changed.err
    plan.write_text(kept.replace('answers = "once"', 'answers = "once"\nuntil = "decided"'))
    assert 'has until = "decided" and answers = "once"' in run_main("qualify", plan, "--rig", "attic").err
    # another file under the same name is no level of the same model
    plan.write_text(kept)
    shutil.copytree(tmp_path / "weights", tmp_path / "elsewhere" / "weights")
    (path,) = (tmp_path / "elsewhere").rglob("*q2_k.gguf")
    path.write_bytes(path.read_bytes() + b"\0")
    other = run_main("qualify", plan, "--rig", "far")
    assert other.code == 2 and "have SHA-256" in other.err and "Copy the same file to both rigs" in other.err


def test_two_rigs_write_one_record_side_by_side(several, run_cli, run_main, monkeypatch):
    cluster = Cluster()
    try:
        place = cluster.database("rigs") + "#desk"
        plan = several(QUAY + "cost_per_hour = 2.0\n", ATTIC, record=place)
        done = {}

        def carry_out(rig):
            done[rig] = run_cli("qualify", plan, "--rig", rig)

        threads = [threading.Thread(target=carry_out, args=(rig,)) for rig in ("quay", "attic")]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        assert {rig: run.code for rig, run in done.items()} == {"quay": 0, "attic": 0}, done
        trials = run_main("trials", place, "--json").json["trials"]
        assert len(trials) == 36 and len({(t["candidate"], t["exercise"]) for t in trials}) == 36
        shown = {one["rig"]: one for one in run_main("compare", place, "--part", "rigs", "--json").json["rigs"]}
        verdicts = {rig: {c["candidate"]: c["verdict"] for c in one["candidates"]} for rig, one in shown.items()}
        assert verdicts["attic"] == {"kelpling-400m@q2_k": "approved"}
        assert verdicts["quay"] == {"kelpling-400m@f16": "rejected", "kelpling-400m@q2_k": "approved"}
        assert shown["quay"]["recommended"] == shown["attic"]["recommended"] == ["kelpling-400m@q2_k"]
        costs = {c["candidate"]: (c["seconds_per_solved"], c["cost_per_solved"]) for c in shown["quay"]["candidates"]}
        for name, (seconds, cost) in costs.items():
            at_once = max(t["concurrency"] for t in trials if t["candidate"] == f"{name} on quay")
            assert cost is None or cost == pytest.approx(seconds / at_once / 3600 * 2.0)
        assert all(one["cost_per_solved"] is None for one in shown["attic"]["candidates"])
        text = run_main("compare", place, "--part", "rigs").out
        assert "Which level on which rig" in text and "rejected: peak_bytes" in text and "(recommended)" in text
        assert "quay, attic" in run_main("records", place).out or "attic, quay" in run_main("records", place).out
        assert run_main("report", place, "-o", plan.parent / "page").code == 0
        page = (plan.parent / "page" / "report.html").read_text()
        assert "Which level on which rig" in page and "toolchains of attic" in page and "rig quay" in page
        # a clock that differs is said, and no more: nothing is computed across two clocks
        now = time.time
        monkeypatch.setattr(time, "time", lambda: now() - 7200)
        assert Record.open(place).clock_ahead_s() == pytest.approx(-7200, abs=60)
        assert run_main("qualify", plan, "--rig", "attic").code == 0
        monkeypatch.undo()
        assert "rig attic: its clock is 2 h 00 min behind the database's" in run_main("compare", place, "--notes").out
        # an old toolchain on one of them is named wherever they are compared
        record = Record.open(place)
        assert {one.facts["hostname"] for one in rig_rows(record)} == {HOST} and toolchains_that_differ(record) == {}
        facts = {**rig_rows(record)[0].facts, "toolchains": {"python": "3.9.1"}}
        table = record.rig_id(rig_rows(record)[0].name)
        from kettlefield.record import schema

        record._write(
            lambda connection: connection.execute(
                schema.rig.update().where(schema.rig.c.id == table).values(facts=json.dumps(facts))
            )
        )
        assert "! python is not the same on all rigs: 3.9.1 on" in run_main("compare", place, "--part", "rigs").out
        # of a campaign with one rig there is nothing to show
        still = run_main("decide", place, "--still-valid")
        assert still.code == 4 and "rig" in still.out
    finally:
        cluster.remove()
