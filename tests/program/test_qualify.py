"""Campaigns that are interrupted, killed or badly served: nothing lost, nothing doubled, one clear line."""

import json
import os
import signal
import socket
import sqlite3
import subprocess
import sys
import time

import psutil
import pytest

from kettlefield.demo.simulated_models import MODELS

SUITE_SIZE = 12


def trials_in(record):
    with sqlite3.connect(record) as connection:
        rows = connection.execute("SELECT candidate_id, exercise_id, sample, outcome FROM trial").fetchall()
    connection.close()
    return rows


def simulated_servers(folder):
    found = []
    for process in psutil.process_iter(["cmdline"]):
        words = process.info["cmdline"] or []
        if "kettlefield.demo" in words and any(str(folder) in word for word in words):
            found.append(process.pid)
    return found


def start(program, plan):
    # a test run in the background inherits that interrupts are ignored, and so would the program
    command = ["env", "--default-signal=INT", program, "qualify", plan]
    return subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)


def wait_for_trials(record, count, process):
    deadline = time.monotonic() + 120
    while time.monotonic() < deadline and process.poll() is None:
        if record.exists():
            try:
                if len(trials_in(record)) >= count:
                    return
            except sqlite3.OperationalError:
                pass
        time.sleep(0.01)
    pytest.fail(f"no {count} trials: {process.communicate()}")


def test_killed_at_several_instants_it_loses_and_doubles_nothing(make_plan, program, run_main, tmp_path):
    # a slow card, so that there is time to kill in the midst of asking
    plan = make_plan(
        candidates=(("q4_k_m", ""), ("q2_k", "")), tables={"grading": "samples = 2\nconcurrent_trials = 2"}
    )
    card = tmp_path / "card" / "card.toml"
    card.write_text(card.read_text().replace("4e12", "400e9"))
    record = tmp_path / "record.db"
    kept = []
    for count in (1, 5, 14, 26):
        process = start(program, plan)
        wait_for_trials(record, count, process)
        process.send_signal(signal.SIGKILL)
        process.communicate()
        now = trials_in(record)
        assert now[: len(kept)] == kept  # what was there stays as it was
        kept = now
        deadline = time.monotonic() + 5
        while simulated_servers(tmp_path) and time.monotonic() < deadline:
            time.sleep(0.05)
        assert simulated_servers(tmp_path) == []  # the server went with the program
    done = run_main("qualify", plan)
    rows = trials_in(record)
    assert done.code == 0, done.err
    assert len(rows) == len({row[:3] for row in rows}) == 2 * 2 * SUITE_SIZE
    assert rows[: len(kept)] == kept
    # an uninterrupted campaign comes to the same outcomes
    plan.write_text(plan.read_text().replace("record.db", "other.db"))
    run_main("qualify", plan)
    assert sorted(trials_in(tmp_path / "other.db")) == sorted(rows)


def test_interrupted_it_stops_its_server_and_can_go_on(make_plan, program, run_main, tmp_path):
    # a card so slow that much is left to do when the signals come, however busy the host is
    plan, record = make_plan(candidates=(("q8_0", ""), ("q4_k_m", ""))), tmp_path / "record.db"
    card = tmp_path / "card" / "card.toml"
    fast = card.read_text()
    card.write_text(fast.replace("4e12", "15e9"))
    kept = []
    for number in (signal.SIGINT, signal.SIGTERM):
        process = start(program, plan)
        wait_for_trials(record, len(kept) + 1, process)
        process.send_signal(number)
        _, err = process.communicate(timeout=30)
        assert process.returncode == 130, f"{number}: {err[-1500:]}"
        assert "every finished trial is kept" in err and "Traceback" not in err
        assert simulated_servers(tmp_path) == []
        assert trials_in(record)[: len(kept)] == kept
        kept = trials_in(record)
    card.write_text(fast)
    assert run_main("qualify", plan).code == 0
    assert trials_in(record)[: len(kept)] == kept


def test_only_and_speed_and_json(make_plan, run_main, tmp_path):
    plan = make_plan(
        candidates=(("q8_0", ""), ("q2_k", "")), tables={"speed": "requests = 3\nreply_tokens = 20\nwarm_up = 1"}
    )
    done = run_main("qualify", plan, "--only", "*@q2_k", "--json")
    rows = done.json["candidates"]
    assert [row["candidate"] for row in rows] == ["kelpling-400m@q2_k"]
    assert 1 < rows[0]["ttft_s"]["p50"]["n"] <= 3  # the warm-up is in no figure; one may have been disturbed
    with sqlite3.connect(tmp_path / "record.db") as connection:
        asked = connection.execute(
            "SELECT purpose, concurrency, completion_tokens, sampling, prompt_id FROM exchange WHERE purpose IN ('warm-up', 'latency')"
        ).fetchall()
    connection.close()
    warm, timed = ([row for row in asked if row[0] == purpose] for purpose in ("warm-up", "latency"))
    assert (
        len(timed) == 3 and 3 <= len(warm) <= 13
    )  # until three first tokens lie close together, 12 at the most; and one when it is ready
    assert all(row[1] == 1 and row[2] == 20 and json.loads(row[3])["max_tokens"] == 20 for row in timed)
    assert len({row[4] for row in asked}) == len(asked)  # no prompt is sent twice: a cache cannot answer
    one = run_main("qualify", plan, "--only", "fare-quote", "--json").json["candidates"]
    assert [(row["candidate"], row["trials"]) for row in one] == [("kelpling-400m@q2_k", 12), ("kelpling-400m@q8_0", 1)]


def test_attached_by_url_memory_is_not_measured_and_the_server_left_running(make_plan, run_main, tmp_path):
    plan = make_plan()
    with socket.create_server(("127.0.0.1", 0)) as probe:
        port = probe.getsockname()[1]
    weights = tmp_path / "weights" / "kelpling-400m-q4_k_m.gguf"
    command = [sys.executable, "-m", "kettlefield.demo", "--weights", weights, "--card", tmp_path / "card"]
    server = subprocess.Popen([*map(str, command), "--port", str(port), "--level", "q4_k_m", "--concurrency", "4"])
    try:
        text = plan.read_text()
        begin = text.index("command = [")
        text = text[:begin] + f'url = "http://127.0.0.1:{port}"\n' + text[text.index("\n", begin) :]
        plan.write_text(text)
        row = run_main("qualify", plan, "--json").json["candidates"][0]
        assert (row["trials"], row["peak_bytes"], row["load_s"]) == (SUITE_SIZE, None, None)
        assert server.poll() is None
    finally:
        server.terminate()
        server.wait()


def test_a_baseline_is_reached_by_url_with_a_key_that_is_kept_nowhere(make_plan, run_cli, run_main, tmp_path):
    with socket.create_server(("127.0.0.1", 0)) as probe:
        port = probe.getsockname()[1]
    baseline = f'baseline = true\nurl = "http://127.0.0.1:{port}"\nkey_from = "BERTH_KEY"\n'
    plan = make_plan(candidates=(("q2_k", ""), ("q4_k_m", baseline)))
    weights = tmp_path / "weights" / "kelpling-400m-q4_k_m.gguf"
    command = [sys.executable, "-m", "kettlefield.demo", "--weights", weights, "--card", tmp_path / "card"]
    more = ["--port", port, "--level", "q4_k_m", "--concurrency", "4", "--key", "halyard-7731"]
    server = subprocess.Popen([*map(str, command), *map(str, more)])
    try:
        unset = run_main("qualify", plan)
        assert (unset.code, "environment variable BERTH_KEY is not set" in unset.err) == (2, True)
        assert not (tmp_path / "record.db").exists() or "trials" not in unset.err
        done = run_cli("qualify", plan, "--only", "fare-quote", "--json", env={"BERTH_KEY": "halyard-7731"})
        rows = {row["candidate"]: row for row in done.json["candidates"]}
        assert rows["kelpling-400m@q4_k_m"]["baseline"] and rows["kelpling-400m@q4_k_m"]["trials"] == 1
        files = [path for path in tmp_path.rglob("*") if path.is_file() and path.stat().st_size < 2**20]
        assert not any(b"halyard-7731" in path.read_bytes() for path in files)
    finally:
        server.terminate()
        server.wait()


def test_a_server_that_dies_half_way_and_the_campaign_goes_on(make_plan, run_main, tmp_path):
    dying = json.dumps(
        ["{python}", "-m", "kettlefield.demo", "--weights", "{weights}", "--card", "card", "--port", "{port}",
         "--level", "{level}", "--concurrency", "4", "--die-after", "9"]
    )  # fmt: skip
    criterion = '[[criterion]]\nmeasure = "pass_rate"\nat_least = 0.01\n'
    plan = make_plan(candidates=(("q8_0", f"command = {dying}"), ("q4_k_m", "")), criteria=criterion)
    done = run_main("qualify", plan, "--json")
    assert done.code == 3
    assert done.err.count("; it is started again") >= 1 and "simulated fault" in done.err
    assert "the server ended with exit status" in done.err or "the server was killed by signal" in done.err
    first, second = done.json["candidates"]
    # only what was in flight is a fault: four at once, in four starts at the most
    assert 1 <= first["faults"] == first["outcomes"]["server-fault"] <= SUITE_SIZE - 2
    assert first["trials"] + first["faults"] <= SUITE_SIZE
    assert (second["trials"], second["faults"]) == (SUITE_SIZE, 0)
    # half a campaign decides nothing, however well it went
    verdicts = [v["criteria"][0] for v in run_main("decide", tmp_path / "record.db", "--json").json["verdicts"]]
    assert [v["status"] for v in verdicts] == ["undecided", "met"]
    assert f"{first['trials']} of 12 trials count so far" in verdicts[0]["reason"]
    # mended, the faults alone are run again
    kept = [row for row in trials_in(tmp_path / "record.db") if row[3] != "server-fault"]
    again = run_main("qualify", plan, "--retry-faults", "--json")
    assert again.json["candidates"][0]["faults"] < first["faults"]
    assert trials_in(tmp_path / "record.db")[: len(kept)] == kept


BAD_SERVERS = [
    (["no-such-server", "{weights}"], 'there is no program "no-such-server"', 2),
    (
        ["{python}", "-c", "import sys; print('card on fire'); sys.exit(9)"],
        "status 9 before it was ready: card on fire",
        3,
    ),
    (["{python}", "-c", "import time; time.sleep(60)"], "not ready within 2.00 s", 3),
    (["{python}", "-m", "http.server", "{port}", "--bind", "127.0.0.1", "{weihgts}"], "unknown placeholder", 2),
]


@pytest.mark.parametrize(("command", "words", "code"), BAD_SERVERS, ids=[case[1][:20] for case in BAD_SERVERS])
def test_a_server_that_cannot_be_used_is_one_clear_line(make_plan, run_main, command, words, code):
    table = f"command = {json.dumps(command)}\nready_within = '2 s'"
    done = run_main("qualify", make_plan(tables={"server": table}))
    lines = [line for line in done.err.splitlines() if words in line]
    assert (done.code, len(lines)) == (code, 1), done.err


def test_a_web_server_is_recognised_as_no_inference_server(make_plan, run_main, tmp_path):
    (tmp_path / "health").mkdir()
    (tmp_path / "health" / "index.html").write_text("<p>berths</p>")
    command = ["{python}", "-m", "http.server", "{port}", "--bind", "127.0.0.1", "--directory", str(tmp_path)]
    table = f"command = {json.dumps(command)}\nready_within = '20 s'"
    done = run_main("qualify", make_plan(tables={"server": table}))
    assert (done.code, "answers /health with a web page" in done.err) == (3, True)


def test_a_taken_port_is_named(make_plan, run_main):
    with socket.create_server(("127.0.0.1", 0)) as taken:
        port = taken.getsockname()[1]
        done = run_main("qualify", make_plan(candidates=(("q2_k", f"port = {port}"),)))
    assert (done.code, f"port {port} is taken" in done.err) == (2, True)


def test_what_does_not_fit_shows_the_servers_own_words(make_plan, run_main):
    done = run_main("qualify", make_plan(candidates=(("q2_k", "context = 2000000"),)))
    assert done.code == 3
    assert "out of memory on Samphire SK-4: needs" in done.err


def test_a_record_in_use_and_a_changed_plan_are_refused(make_plan, run_main, program, tmp_path):
    import fcntl

    plan = make_plan()
    assert run_main("qualify", plan).code == 0
    with (tmp_path / "record.db.lock").open("r+") as held:
        fcntl.flock(held, fcntl.LOCK_EX)
        done = run_main("qualify", plan)
    assert (done.code, "another run is using it" in done.err) == (2, True)
    before = trials_in(tmp_path / "record.db")
    text = plan.read_text()
    for change, words in (
        (
            text.replace("max_tokens = 700", "max_tokens = 701"),
            "changed since: sampling, candidate kelpling-400m@q4_k_m",
        ),
        (text + '[[criterion]]\nmeasure = "pass_rate"\nat_least = 0.1\n', "changed since: criterion"),
    ):
        plan.write_text(change)
        done = run_main("qualify", plan)
        assert (done.code, words in done.err) == (2, True), done.err
    plan.write_text(text)
    weights = tmp_path / "weights" / "kelpling-400m-q4_k_m.gguf"
    with weights.open("r+b") as file:
        file.seek(-1, os.SEEK_END)
        file.write(b"x")
    done = run_main("qualify", plan)
    assert (done.code, "weights of kelpling-400m@q4_k_m changed" in done.err) == (2, True)
    assert trials_in(tmp_path / "record.db") == before


def test_a_full_disk_is_one_line_and_keeps_what_was_written(make_plan, program, tmp_path):
    """A real full disk: a small file system of the test's own, in a mount namespace."""
    plan = make_plan(tables={"grading": "samples = 6\nconcurrent_trials = 4"})
    small = tmp_path / "small"
    small.mkdir()
    plan.write_text(plan.read_text().replace("record.db", "small/record.db"))
    script = (
        f"mount -t tmpfs -o size=1000k none {small}; {program} qualify {plan} >/dev/null; code=$?; "
        f"cp {small}/record.db* {tmp_path}/; exit $code"
    )
    user = [] if os.geteuid() == 0 else ["--user", "--map-root-user"]
    done = subprocess.run(
        ["unshare", *user, "--mount", "sh", "-c", script], capture_output=True, text=True, timeout=200, check=False
    )
    assert done.returncode == 3, done.stderr
    assert "Traceback" not in done.stderr
    assert "disk is full" in done.stderr and "same command resumes" in done.stderr
    rows = trials_in(tmp_path / "record.db")
    assert len(rows) == len({row[:3] for row in rows}) > 3


def test_repair_turns_send_the_error_back_but_never_what_was_expected(make_plan, run_main, tmp_path):
    grading = "concurrent_trials = 4\nrepair_turns = 2"
    plan = make_plan(candidates=(("q2_k", ""),), model="marram-1.2b", tables={"grading": grading})
    row = run_main("qualify", plan, "--json").json["candidates"][0]
    repaired = row["solved_after_repair"]
    assert sum(repaired.values()) >= 1 and set(repaired) <= {"1", "2"}
    # solved first time and solved after repair are separate figures
    assert row["solved"] + sum(repaired.values()) == row["outcomes"]["passed"]
    assert row["pass_rate"]["value"] == row["solved"] / row["trials"]
    listed = run_main("trials", tmp_path / "record.db", "--json").json["trials"]
    chosen = next(t for t in listed if t["attempts"] > 1 and t["outcome"] == "passed")
    attempts = run_main("trials", tmp_path / "record.db", "--open", chosen["id"], "--json").json["trial"]["attempts"]
    assert attempts[0]["outcome"] != "passed" and attempts[-1]["outcome"] == "passed"
    messages = attempts[1]["exchange"]["messages"]
    assert [m["role"] for m in messages] == ["user", "assistant", "user"]
    assert messages[1]["content"] == attempts[0]["exchange"]["reply"]
    assert "Correct it" in messages[2]["content"]
    for trial in listed:
        if trial["attempts"] == 1:
            continue
        for attempt in run_main("trials", tmp_path / "record.db", "--open", trial["id"], "--json").json["trial"][
            "attempts"
        ][1:]:
            assert "expected" not in attempt["exchange"]["messages"][-1]["content"]
    plan.write_text(
        plan.read_text().replace("repair_turns = 2", 'repair_turns = 2\n[prompting]\nstyle = "continuation"')
    )
    refused = run_main("qualify", plan)
    assert (refused.code, "Repair needs a conversation" in refused.err) == (2, True)


def test_unknown_names_on_the_command_line(run_main, make_plan, tmp_path):
    assert run_main("qualify", tmp_path / "none.toml").code == 2
    done = run_main("qualify", make_plan(head="").with_name("plan.toml"), "--only", "kelping*")
    assert (done.code, "matches nothing" in done.err) == (2, True)
    assert run_main("qualfy").code == 2
    plan = make_plan()
    plan.write_text(plan.read_text().replace('"berthdesk"', '"berthdeck"'))
    done = run_main("qualify", plan)
    assert (done.code, "built-in suite: berthdesk" in done.err) == (2, True)


def test_unsafe_without_isolation_is_written_down(make_plan, run_main, tmp_path):
    plan = make_plan()
    assert run_main("qualify", plan, "--unsafe-no-isolation", "--only", "fare-quote").code == 0
    with sqlite3.connect(tmp_path / "record.db") as connection:
        rig = json.loads(connection.execute("SELECT rig FROM campaign").fetchone()[0])
    connection.close()
    assert rig["isolation"]["name"] == "none"
    assert "network" in rig["isolation"]["lacks"]


def test_the_made_up_models_bear_names_of_their_own():
    assert all("simulated" in model.title for model in MODELS.values())


def test_a_dry_run_says_what_is_left_and_starts_nothing(make_plan, run_main, tmp_path):
    plan = make_plan(
        candidates=(("q4_k_m", ""), ("q2_k", "")), tables={"speed": "requests = 3\nwarm_up = 0\nreply_tokens = 16"}
    )
    before = run_main("qualify", plan, "--dry-run", "--json").json
    assert not (tmp_path / "record.db").exists() and not (tmp_path / "logs").exists()
    assert [(row["trials"], row["timed_requests"], row["basis"]) for row in before["candidates"]] == [
        (12, 3, "ceiling by the header")
    ] * 2
    assert all(row["at_least_s"] > 0 for row in before["candidates"]) and before["smallest_drop"] is None
    assert run_main("qualify", plan, "--only", "*@q2_k").code == 0
    after = {row["candidate"]: row for row in run_main("qualify", plan, "--dry-run", "--json").json["candidates"]}
    done = after["kelpling-400m@q2_k"]
    assert (done["trials"], done["timed_requests"], done["basis"], done["at_least_s"]) == (0, 0, "measured, n = 3", 0)
    assert after["kelpling-400m@q4_k_m"]["trials"] == 12
    shown = run_main("qualify", plan, "--dry-run").out
    assert "minimum detectable drop" in shown and "ceiling by the header" in shown
