"""The demo, run once as a user runs it, and every command on the record that it leaves."""

import json
import subprocess

import pytest

from kettlefield.core.languages import LANGUAGES

DEMO_LEVELS = ("f16", "q8_0", "q4_k_m", "q2_k")


@pytest.fixture(scope="module")
def demo(run_cli, tmp_path_factory):
    """The demo's folder and what it printed."""
    folder = tmp_path_factory.mktemp("work")
    return folder / "saltmarsh-demo", run_cli("demo", cwd=folder)


def test_the_demo_ends_well_and_says_that_it_is_simulated(demo):
    folder, done = demo
    assert done.code == 0, done.err
    assert "SIMULATED" in done.out
    assert (folder / "plan.toml").exists() and (folder / "record.db").exists()
    assert "256 trials" in done.err
    # the same files were weighed, drafted and qualified
    assert "memory needed; budget 2.00 GiB" in done.out and "7 of 8 files are candidates" in done.out
    assert (folder / "drafted.toml").read_text().count("[[candidate]]") == 7
    for word in ("approved", "rejected", "undecided"):
        line = next(line for line in done.out.splitlines() if line.startswith(f"{word}: "))
        assert "none" not in line


@pytest.mark.parametrize(
    ("words", "shown"),
    [
        (("--by", "kind"), ("write", "of 8")),
        (("--by", "topic"), ("berth", "--json has the intervals")),
        (("--by", "outcome"), ("passed", "wrong-answer")),
        (("--pairs",), ("marram-1.2b@q2_k lost: ", "no other beats")),
        (("--part", "speed"), ("context filled to", "engineers served", "knee", "past its window")),
        (("--part", "memory"), ("each token of context", "as told by Samphire SK-4 (simulated)")),
    ],
)
def test_contrast_shows_each_side_of_a_campaign(demo, run_cli, words, shown):
    folder, _ = demo
    out = run_cli("contrast", folder / "record.db", *words).out
    assert "SIMULATED" in out and all(text in out for text in shown)
    found = run_cli("contrast", folder / "record.db", *words, "--only", "marram*", "--json").json
    assert found["simulated"] is True


def test_one_level_is_shown_to_be_no_worse_another_worse_and_a_third_left_open(demo, run_cli):
    folder, _ = demo
    found = run_cli("decide", folder / "record.db", "--json").json
    paired = {
        verdict["candidate"]: next(c for c in verdict["criteria"] if "below reference" in c["wanted"])
        for verdict in found["verdicts"]
    }
    assert paired["marram-1.2b@q4_k_m"]["status"] == "met" and paired["marram-1.2b@q2_k"]["status"] == "not met"
    assert paired["kelpling-400m@q4_k_m"]["status"] == "undecided"
    assert "settle it" in paired["kelpling-400m@q4_k_m"]["reason"]
    assert found["recommended"]["marram-1.2b"] == "marram-1.2b@q4_k_m"


def test_contrast_keeps_its_contract(demo, run_cli):
    folder, _ = demo
    found = run_cli("contrast", folder / "record.db", "--json").json
    assert found["simulated"] is True
    assert [row["candidate"] for row in found["candidates"]] == [
        f"{model}@{level}" for model in ("marram-1.2b", "kelpling-400m") for level in DEMO_LEVELS
    ]
    for row in found["candidates"]:
        assert row["trials"] == 32 == sum(row["outcomes"].values())
        assert row["solved"] == row["outcomes"].get("passed", 0)
        assert row["pass_rate"]["low"] <= row["pass_rate"]["value"] <= row["pass_rate"]["high"]
        assert row["first_token_s"]["p50"]["n"] in {12, 12 - row["disturbed"]}
        assert row["peak_bytes"] >= row["accelerator_peak_bytes"] > row["weights_bytes"]
        assert row["reference"] == row["candidate"].endswith("f16")
    marram = found["candidates"][:4]
    assert all(row["prediction_error"] < 0.35 and 0.1 < row["ceiling_share"] < 1 for row in found["candidates"])
    for figure in ("peak_bytes", "load_s", "weights_bytes"):
        assert marram[0][figure] > marram[2][figure]
    rates = [row["decode_rate_tps"]["p50"]["value"] for row in marram]
    assert rates == sorted(rates)


def test_memory_is_what_the_stand_in_claims(demo, run_cli):
    folder, _ = demo
    from kettlefield.standin.models import load_model
    from kettlefield.standin.physics import OVERHEAD_BYTES

    for row in run_cli("contrast", folder / "record.db", "--json").json["candidates"]:
        model = load_model(folder / "weights" / (row["candidate"].replace("@", "-") + ".gguf"))
        claimed = model.weight_bytes + model.kv_bytes_per_token * 2048 * 6 + OVERHEAD_BYTES
        assert row["accelerator_peak_bytes"] == claimed


def test_decide_says_why_and_ends_with_its_code(demo, run_cli):
    folder, _ = demo
    done = run_cli("decide", folder / "record.db", "--json")
    verdicts = {verdict["candidate"]: verdict for verdict in done.json["verdicts"]}
    assert done.code == 0
    reference = verdicts["marram-1.2b@f16"]
    assert reference["verdict"] == "rejected"
    not_met = [c["measure"] for c in reference["criteria"] if c["status"] == "not met"]
    assert not_met == ["peak_bytes"]
    codes = {"approved": 0, "rejected": 1, "undecided": 4}
    for name, verdict in verdicts.items():
        alone = run_cli("decide", folder / "record.db", "--candidate", name)
        assert alone.code == codes[verdict["verdict"]]
        assert verdict["verdict"] in alone.out
    wrong = run_cli("decide", folder / "record.db", "--candidate", "marram-1.2b@q8")
    assert (wrong.code, 'Did you mean "marram-1.2b@q8_0"?' in wrong.err) == (2, True)


def test_trials_lists_filters_and_opens(demo, run_cli):
    folder, _ = demo
    record = folder / "record.db"
    listed = run_cli("trials", record, "--json").json["trials"]
    assert len(listed) == 256
    assert len({(row["candidate"], row["exercise"], row["seed"]) for row in listed}) == 256
    wanted = "id candidate exercise seed outcome score attempts first_token_s decode_rate_tps completion_tokens finish_reason"
    assert set(wanted.split()) <= listed[0].keys()
    wrong = run_cli("trials", record, "--outcome", "wrong-answer", "--only", "*@q2_k", "--json").json["trials"]
    assert wrong and all(row["outcome"] == "wrong-answer" and row["candidate"].endswith("q2_k") for row in wrong)
    coded = next(row for row in wrong if not row["exercise"].startswith("explain"))
    opened = run_cli("trials", record, "--open", coded["id"], "--json").json["trial"]
    attempt = opened["attempts"][0]
    assert attempt["files"] and attempt["exchange"]["reply"] and attempt["checks"][0]["detail"]
    prompt = attempt["exchange"]["messages"][-1]["content"]
    assert "Environment:" in prompt and "code block" in prompt
    shown = run_cli("trials", record, "--open", coded["id"]).out
    for section in ("--- sent (user)", "--- reply", "--- extracted answer", "timings: first token"):
        assert section in shown


def test_bad_requests_of_a_record_are_refused_in_one_line(demo, run_cli):
    folder, _ = demo
    record = folder / "record.db"
    for args, words in (
        (("trials", record, "--open", "9999"), "there is no trial 9999"),
        (("trials", record, "--outcome", "pased"), 'Did you mean "passed"?'),
        (("contrast", folder / "plan.toml"), "no Kettlefield record"),
        (("decide", folder / "none.db"), "no such record"),
        (("demo", folder / "weights"), "is no demo"),
    ):
        done = run_cli(*args)
        assert (done.code, done.err.count("\n")) == (2, 1), done.err
        assert words in done.err
    failed = run_cli("contrast", folder / "none.db", "--json")
    assert failed.json["error"]["what"] == "there is no such record"


def test_no_colour_off_a_terminal_and_a_closed_pipe_is_no_error(demo, program):
    folder, done = demo
    assert "\x1b" not in done.out + done.err
    piped = subprocess.run(
        f"{program} trials {folder / 'record.db'} | head -1", shell=True, capture_output=True, text=True, check=False
    )
    assert (piped.returncode, piped.stderr) == (0, "")


def test_run_again_the_demo_repeats_nothing(demo, run_cli):
    folder, first = demo
    again = run_cli("demo", folder)
    assert again.code == 0
    assert "256 of them already in the record" in again.err
    table = first.out[first.out.index("Which code model") : first.out.index("Look next")]
    assert table in again.out


def test_the_record_is_lean_and_holds_what_an_audit_asks_for(demo):
    folder, _ = demo
    import sqlite3

    with sqlite3.connect(folder / "record.db") as connection:
        one = connection.execute("SELECT plan_text, plan_digest, suite_digest, rig FROM campaign").fetchone()
        weights = connection.execute("SELECT weights_sha256, settings FROM candidate").fetchall()
        sessions = connection.execute("SELECT command, description, ended, load_s FROM session").fetchall()
        sizes = [
            connection.execute(f"SELECT sum(length({column})) FROM {table}").fetchone()[0]
            for table, column in (
                ("exchange", "stamps"),
                ("exchange", "reply"),
                ("attempt", "files"),
                ("memory_block", "series"),
            )
        ]
    connection.close()
    assert one[0] == (folder / "plan.toml").read_text()
    rig = json.loads(one[3])
    assert rig["toolchains"].keys() == set(LANGUAGES) and rig["isolation"]["name"] == "bubblewrap"
    assert all(len(digest) == 64 and json.loads(text)["sampling"]["seed"] == 11 for digest, text in weights)
    assert all("--weights" in command and "simulated" in words for command, words, _, _ in sessions)
    assert all(ended == "stopped" and load_s > 0 for _, _, ended, load_s in sessions)
    # 100,000 trials are to stay under 1 GB: 10 KB a trial
    assert sum(sizes) / 256 < 8_000
