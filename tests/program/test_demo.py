"""The demo, run once as a user runs it, and every command on the record that it leaves."""

import csv
import io
import json
import re
import shlex
import shutil
import sqlite3
import subprocess
from pathlib import Path

import jsonschema
import pytest

from kettlefield.languages.all_languages import LANGUAGES
from kettlefield.marking.blind_replies import items_of
from kettlefield.record.entries import MarkEntry
from kettlefield.record.store import Record

SCHEMAS = Path(__file__).parents[2] / "docs" / "reference" / "schemas"
EXTRAS = {"frontier", "not_measured"}  # lists of plain words beside the main one
DEMO_LEVELS = ("f16", "q8_0", "q4_k_m", "q2_k")


@pytest.fixture(scope="module")
def demo(run_cli, tmp_path_factory):
    """The demo's folder and what it printed."""
    folder = tmp_path_factory.mktemp("work")
    return folder / "saltmarsh-demo", run_cli("demo", cwd=folder, within_s=600)  # a busy machine takes its time


def copy_demo(folder, to):
    """The demo's folder for a test of its own, its weights linked: they are large."""
    shutil.copytree(folder, to, ignore=shutil.ignore_patterns("*.gguf"))
    for path in (folder / "weights").glob("*.gguf"):
        (to / "weights" / path.name).symlink_to(path)


def test_the_demo_ends_well_and_says_that_it_is_simulated(demo):
    folder, done = demo
    assert done.code == 0, done.err
    assert "SIMULATED" in done.out
    assert (folder / "plan.toml").exists() and (folder / "record.db").exists()
    assert "336 trials" in done.err
    # the same files were weighed, drafted and qualified
    assert "Will they fit? (budget 2.00 GiB" in done.out and "7 of 8 files are candidates" in done.out
    assert "no, 15 of 22 layers would" in done.out
    assert (folder / "drafted.toml").read_text().count("[[candidate]]") == 7
    end = done.out[done.out.index("Which code model") :].splitlines()
    assert len(end) <= 40 and "SIMULATED" in end[0]
    for words in ("approved: peak", "(recommended)", "rejected: peak_bytes 2.", "undecided: ", "of 3 tickets"):
        assert any(words in line for line in end)


@pytest.mark.parametrize(
    ("words", "shown"),
    [
        (("--by", "kind"), ("write", "of 8")),
        (("--by", "topic"), ("berth", "--json has the intervals")),
        (("--by", "outcome"), ("passed", "wrong-answer")),
        (("--pairs",), ("Exercises lost and won", "Candidates side by side", "--notes")),
        (("--wide", "--pairs"), ("Exercises lost and won", "Pareto-optimal", "predicted", "Peak memory: the server's")),
        (("--notes",), ("peak memory", "Peak memory: the server's", "quaylib-split-bill")),
        (
            ("--part", "speed"),
            ("context depth", "Capacity under open-loop load", "Saturation point", "past its window"),
        ),
        (("--part", "memory"), ("each token of context", "reported by", "Samphire SK-4 (simulated)")),
        (("--part", "solved"), ("pass@2", "pass@1")),
        (("--part", "cost"), ("GiB x s/solved", "than its reference")),
        (("--part", "replies"), ("same code", "Temperature is 0.2")),
        (("--against", "marram-1.2b@q8_0"), ("to marram-1.2b@q8_0",)),
    ],
)
def test_compare_shows_each_side_of_a_campaign(demo, run_main, words, shown):
    folder, _ = demo
    out = run_main("compare", folder / "record.db", *words).out
    flat = " ".join(out.split())  # lines fold at the terminal's width
    assert "SIMULATED" in out and all(text in flat for text in shown)
    found = run_main("compare", folder / "record.db", *words, "--only", "marram*", "--json").json
    assert found["simulated"] is True


@pytest.mark.parametrize("command", ["compare", "decide", "trials", "weigh"])
def test_json_holds_to_its_published_schema(demo, run_main, command):
    folder, _ = demo
    files = sorted((folder / "weights").glob("*.gguf")) if command == "weigh" else [folder / "record.db"]
    schema = json.loads((SCHEMAS / f"{command}.schema.json").read_text())
    document = run_main(command, *files, "--json").json
    jsonschema.Draft202012Validator(schema).validate(document)
    (name,) = [key for key, value in schema["properties"].items() if value.get("type") == "array" and key not in EXTRAS]
    del document[name][0][schema["properties"][name]["items"].get("required", ["candidate"])[0]]
    assert list(jsonschema.Draft202012Validator(schema).iter_errors(document))  # a key that is gone is noticed


def test_a_decision_is_signed_checked_and_noticed_when_it_goes_stale(demo, run_main, tmp_path):
    folder, _ = demo
    copy_demo(folder, tmp_path / "demo")
    record, key = tmp_path / "demo" / "record.db", tmp_path / "key"
    assert run_main("decide", record, "--still-valid").code == 4  # nobody has signed yet
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", key], check=True)
    public = " ".join(key.with_suffix(".pub").read_text().split()[:2])
    (tmp_path / "allowed").write_text(f"tern@saltmarsh.example {public}\n")
    wrong = run_main("decide", record, "--by", "R. Tern", "--ssh-key", tmp_path / "none")
    assert (wrong.code, "there is no such key" in wrong.err) == (2, True)
    assert "Nobody has signed" in run_main("decide", record, "--audit").out  # nothing was left behind
    assert "signed by R. Tern" in run_main("decide", record, "--by", "R. Tern", "--ssh-key", key, "--note", "n").err
    done = run_main("decide", record, "--audit", "--allowed-signers", tmp_path / "allowed")
    assert (done.code, "SSH signature of tern@saltmarsh.example" in done.out) == (0, True)
    assert run_main("decide", record, "--still-valid").code == 0
    # a signature of something else, or by somebody else, is none
    (tmp_path / "allowed").write_text("tern@saltmarsh.example ssh-ed25519 " + "A" * 68 + "\n")
    assert run_main("decide", record, "--audit", "--allowed-signers", tmp_path / "allowed").code == 1
    weights = tmp_path / "demo" / "weights" / "marram-1.2b-q8_0.gguf"
    with sqlite3.connect(record) as connection:
        connection.execute("UPDATE candidate SET weights_path = ? WHERE name = 'marram-1.2b@q8_0'", (str(weights),))
        connection.execute("UPDATE session SET description = 'another server'")
    connection.close()
    weights.unlink()
    weights.write_bytes(b"others")
    stale = run_main("decide", record, "--still-valid", "--json")
    assert (stale.code, stale.json["still_valid"]) == (4, False)
    changed = {one["candidate"]: [change["what"] for change in one["changes"]] for one in stale.json["candidates"]}
    assert changed["marram-1.2b@q8_0"] == ["weights sha256"] and changed["marram-1.2b@q4_k_m"] == []
    assert "the results changed since R. Tern signed" in stale.json["faults"]
    both = run_main("compare", folder / "record.db", record)
    assert "another server" in both.out and "moved (!): nothing" in both.out
    pairs = run_main("compare", folder / "record.db", record, "--json").json["comparisons"][0]
    assert len(pairs["candidates"]) == 8 and not any(one["flips"] for one in pairs["candidates"])


def test_criteria_changed_afterwards_are_shown_with_both_results(demo, run_main, tmp_path):
    folder, _ = demo
    plan = tmp_path / "plan.toml"
    plan.write_text((folder / "plan.toml").read_text().replace('at_most = "2 GiB"', 'at_most = "3 GiB"'))
    words = ("decide", folder / "record.db", "--candidate", "marram-1.2b@f16")
    done = run_main(*words, "--plan", plan)
    assert (done.code, "CRITERIA CHANGED after the campaign began" in done.out) == (1, True)
    assert done.out.rstrip().splitlines()[-1].split() == ["marram-1.2b@f16", "rejected", "approved"]
    changed = run_main(*words, "--plan", plan, "--json").json
    assert (changed["verdicts"][0]["verdict"], changed["changed_criteria"][0]["verdict"]) == ("rejected", "approved")
    assert "are those that the campaign began with" in run_main(*words, "--plan", folder / "plan.toml").out
    assert "condition: for staff of the berth desk" in run_main("decide", folder / "record.db").out


def test_a_record_is_handed_on_in_open_formats(demo, run_main, tmp_path):
    folder, _ = demo
    done = run_main("export", folder / "record.db", "-o", tmp_path / "out")
    names = sorted(line.rsplit("/", 1)[1] for line in done.out.splitlines())
    assert names[0] == "criteria.xml" and "marram-1.2b@q4_k_m.cdx.json" in names and "trials.csv" in names
    assert not any(name.startswith("marram-1.2b@f16") for name in names)  # rejected
    rows = csv.reader(io.StringIO(run_main("compare", folder / "record.db", "--csv").out))
    table = [dict(zip(head, row, strict=True)) for head in [next(rows)] for row in rows]
    assert len(table) == 8 and float(table[0]["pass_rate.value"]) > 0.5 and table[0]["simulated"] == "True"


def test_one_level_is_shown_to_be_no_worse_another_worse_and_a_third_left_open(demo, run_main):
    folder, _ = demo
    found = run_main("decide", folder / "record.db", "--json").json
    paired = {
        verdict["candidate"]: next(c for c in verdict["criteria"] if "below reference" in c["wanted"])
        for verdict in found["verdicts"]
    }
    assert paired["marram-1.2b@q4_k_m"]["status"] == "met" and paired["marram-1.2b@q2_k"]["status"] == "not met"
    assert paired["kelpling-400m@q4_k_m"]["status"] == "undecided"
    assert "settle it" in paired["kelpling-400m@q4_k_m"]["reason"]
    assert found["recommended"]["marram-1.2b"] == "marram-1.2b@q4_k_m"


@pytest.mark.parametrize("columns", [80, 120])
def test_tables_are_readable_in_a_narrow_terminal(demo, run_main, columns):
    folder, _ = demo
    record, env = folder / "record.db", {"COLUMNS": str(columns)}
    for words in (
        ("compare", record),
        ("compare", record, "--part", "speed"),
        ("decide", record),
        ("trials", record),
    ):
        out = run_main(*words, env=env).out
        assert max(map(len, out.splitlines())) <= columns
        for name in ("marram-1.2b@q4_k_m", "kelpling-400m@q2_k"):
            assert name in out  # never folded
    assert run_main("compare", record, env={"COLUMNS": "100"}).out.count("Candidates side by side") == 1
    out = run_main("compare", record, "--wide", env=env).out
    assert all(
        head in out
        for head in ("95 % interval", "peak memory", "tokens/solved", "minimum detectable drop", "other outcomes")
    )
    weights = sorted((folder / "weights").glob("marram*.gguf"))
    out = run_main("weigh", *weights, env=env).out
    assert max(map(len, out.splitlines())) <= columns


def test_contrast_keeps_its_contract(demo, run_main):
    folder, _ = demo
    found = run_main("compare", folder / "record.db", "--json").json
    assert found["simulated"] is True
    assert [row["candidate"] for row in found["candidates"]] == [
        f"{model}@{level}" for model in ("marram-1.2b", "kelpling-400m") for level in DEMO_LEVELS
    ]
    for row in found["candidates"]:
        # whatever is approved or open was asked everything: a count of escapes can only be judged on the whole
        assert row["trials"] == sum(row["outcomes"].values()) and row["planned"] == 42
        assert row["trials"] < 42 if row["candidate"].endswith("q2_k") else row["trials"] <= 42
        assert row["solved"] == row["outcomes"].get("passed", 0)
        assert row["pass_rate"]["low"] <= row["pass_rate"]["value"] <= row["pass_rate"]["high"]
        assert 6 <= row["ttft_s"]["p50"]["n"] <= 12
        assert row["peak_bytes"] >= row["accelerator_peak_bytes"] > row["weights_bytes"]
        assert row["reference"] == row["candidate"].endswith("f16")
    marram = found["candidates"][:4]
    assert all(row["prediction_error"] < 0.35 and 0.1 < row["ceiling_share"] < 1 for row in found["candidates"])
    for figure in ("peak_bytes", "weights_bytes"):
        assert marram[0][figure] > marram[2][figure]
    rates = [row["decode_tps"]["p50"]["value"] for row in marram]
    assert rates == sorted(rates)


def test_memory_is_what_the_stand_in_claims(demo, run_main):
    folder, _ = demo
    from kettlefield.demo.simulated_models import OVERHEAD_BYTES, load_model

    for row in run_main("compare", folder / "record.db", "--json").json["candidates"]:
        model = load_model(folder / "weights" / (row["candidate"].replace("@", "-") + ".gguf"))
        claimed = model.weight_bytes + model.kv_bytes_per_token * 2048 * 6 + OVERHEAD_BYTES
        assert row["accelerator_peak_bytes"] == claimed


def test_decide_says_why_and_ends_with_its_code(demo, run_main):
    folder, _ = demo
    done = run_main("decide", folder / "record.db", "--json")
    verdicts = {verdict["candidate"]: verdict for verdict in done.json["verdicts"]}
    assert done.code == 0
    reference = verdicts["marram-1.2b@f16"]
    assert reference["verdict"] == "rejected"
    not_met = [c["measure"] for c in reference["criteria"] if c["status"] == "not met"]
    assert not_met == ["peak_bytes"]
    codes = {"approved": 0, "rejected": 1, "undecided": 4}
    for name, verdict in verdicts.items():
        alone = run_main("decide", folder / "record.db", "--candidate", name)
        assert alone.code == codes[verdict["verdict"]]
        assert verdict["verdict"] in alone.out
    wrong = run_main("decide", folder / "record.db", "--candidate", "marram-1.2b@q8")
    assert (wrong.code, 'Did you mean "marram-1.2b@q8_0"?' in wrong.err) == (2, True)


def test_trials_lists_filters_and_opens(demo, run_main):
    folder, _ = demo
    record = folder / "record.db"
    listed = run_main("trials", record, "--json").json["trials"]
    assert 200 < len(listed) < 336  # some stopped when they were decided
    assert len({(row["candidate"], row["exercise"], row["seed"]) for row in listed}) == len(listed)
    wanted = "id candidate exercise seed outcome score attempts ttft_s decode_tps completion_tokens finish_reason"
    assert set(wanted.split()) <= listed[0].keys()
    wrong = run_main("trials", record, "--outcome", "wrong-answer", "--only", "*@q2_k", "--json").json["trials"]
    assert wrong and all(row["outcome"] == "wrong-answer" and row["candidate"].endswith("q2_k") for row in wrong)
    coded = next(row for row in wrong if not row["exercise"].startswith(("explain", "review")))
    opened = run_main("trials", record, "--open", coded["id"], "--json").json["trial"]
    attempt = opened["attempts"][0]
    assert attempt["files"] and attempt["exchange"]["reply"] and attempt["checks"][0]["detail"]
    prompt = attempt["exchange"]["messages"][-1]["content"]
    assert "Environment:" in prompt and "code block" in prompt
    shown = run_main("trials", record, "--open", coded["id"]).out
    for section in ("--- sent (user)", "--- reply", "--- extracted answer", "timings: TTFT"):
        assert section in shown


def test_bad_requests_of_a_record_are_refused_in_one_line(demo, run_main):
    folder, _ = demo
    record = folder / "record.db"
    for args, words in (
        (("trials", record, "--open", "9999"), "there is no trial 9999"),
        (("trials", record, "--outcome", "pased"), 'Did you mean "passed"?'),
        (("compare", folder / "plan.toml"), "not a Kettlefield record"),
        (("decide", folder / "none.db"), "no such record"),
        (("demo", folder / "weights"), "is not a demo"),
        (("decide", record, "--note", "n"), "needs --by"),
        (("decide", record, "--allowed-signers", "f"), "needs --audit"),
        (("decide", record, "--by", "T", "--audit"), "does not go with"),
        (("compare", record, "--against", "marram"), 'there is no candidate "marram"'),
        (("compare", record, "--by", "kind", "--pairs"), "do not go together"),
        (("compare", record, record, "--pairs"), "is for one record"),
        (("export", record, "-o", folder, "--as", "bom", "--candidate", "marram-1.2b@f16"), "is of what was approved"),
        (("export", record, "-o", folder, "--candidate", "marram-1.2b@f16"), "--as bom"),
        (("export", record, "-o", folder / "plan.toml", "--as", "junit"), "cannot be written"),
    ):
        done = run_main(*args)
        assert (done.code, done.err.count("\n")) == (2, 1), done.err
        assert words in done.err
    failed = run_main("compare", folder / "none.db", "--json")
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
    with sqlite3.connect(folder / "record.db") as connection:
        (kept,) = connection.execute("SELECT count(*) FROM trial").fetchone()
    connection.close()
    assert f"{kept} of them already in the record" in again.err
    table = first.out[first.out.index("Which code model") : first.out.index("Look next")]
    assert table in again.out


def test_the_record_is_lean_and_holds_what_an_audit_asks_for(demo):
    folder, _ = demo
    with sqlite3.connect(folder / "record.db") as connection:
        one = connection.execute("SELECT plan_text, plan_digest, suite_digest, rig FROM campaign").fetchone()
        weights = connection.execute("SELECT weights_sha256, settings FROM candidate").fetchall()
        sessions = connection.execute("SELECT command, description, ended, load_s FROM session").fetchall()
        (trials,) = connection.execute("SELECT count(*) FROM trial").fetchone()
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
    assert rig["toolchains"].keys() == {*LANGUAGES.programs, "html"} and rig["isolation"]["name"] == "bubblewrap"
    assert all(len(digest) == 64 and json.loads(text)["sampling"]["seed"] == 11 for digest, text in weights)
    assert all("--weights" in command and "simulated" in words for command, words, _, _ in sessions)
    assert all(ended == "stopped" and load_s > 0 for _, _, ended, load_s in sessions)
    # 100,000 trials are to stay under 1 GB: 10 KB a trial
    assert sum(sizes) / trials < 8_000


def console_blocks(text):
    """Commands of a document's console blocks, each with the lines that it is said to print."""
    for block in re.findall(r"```console\n(.*?)```", text, flags=re.DOTALL):
        for part in re.split(r"^\$ ", block, flags=re.MULTILINE)[1:]:
            command, *lines = part.splitlines()
            yield shlex.split(command), lines


@pytest.mark.parametrize("document", ["README.md", "docs/guide/README.md"])
def test_what_documents_show_runs_as_they_say(demo, run_main, tmp_path, monkeypatch, document):
    folder, _ = demo
    copy_demo(folder, tmp_path / "saltmarsh-demo")
    monkeypatch.chdir(tmp_path)
    ran = list(console_blocks((SCHEMAS.parents[2] / document).read_text()))
    assert len(ran) >= 8
    for words, lines in ran:
        assert words[0] == "kettlefield"
        done = run_main(*words[1:])
        assert done.code in {0, 1, 4}, done.err
        printed = {" ".join(line.split()) for line in done.out.splitlines()}
        for line in lines:
            # figures differ from run to run; words and headings must be there as they stand
            words_of_line = " ".join(line.split())
            if not re.search(r"\d", words_of_line) or words_of_line.startswith("candidate"):
                assert any(words_of_line in one for one in printed), line
    page = tmp_path / "report" / "report.html"
    assert document != "README.md" or 0 < page.stat().st_size < 3_000_000


def test_an_judge_is_measured_before_it_is_believed(demo, run_cli, run_main, tmp_path):
    copy = tmp_path / "demo"
    copy_demo(demo[0], copy)
    done = run_cli("judge", copy / "plan.toml", "--json")
    assert done.code == 0, done.err
    (found,) = done.json["judges"]
    # what the simulated judge was started with: place=0.25,length=0.3, and so of two that are alike by the checks
    # it takes the longer with 0.75 * 0.3 and the first, which is the longer half of the time, with 0.25
    assert found["place"]["low"] <= 0.25 <= found["place"]["high"]
    assert found["length"]["low"] <= (0.225 + 0.125) / (0.225 + 0.25) <= found["length"]["high"]
    assert found["parting"]["value"] > 0.9 and found["faults"] == 0
    assert "is unknown" in found["not_used"] and done.json["weights"]["judge"] == 0
    again = run_cli("judge", copy / "plan.toml")
    assert "0 questions asked" in again.err and "shown and not used" in again.out
    # people who mark as it does make it count, by the plan's weight
    record = Record.open(copy / "record.db")
    marks = {i.digest: i for i in items_of(record, ("explain", "page", "write"))}
    entries = [
        MarkEntry(
            marker="Ines Quine", exercise_id=i.exercise, item=d, showing=1, value=4 if i.passed else 1, note="", via="sheet"
        )
        for d, i in marks.items()
    ]  # fmt: skip
    record.save_marks(entries)
    record.close()
    used = run_main("compare", copy / "record.db", "--part", "marks", "--json").json
    assert used["judges"][0]["with_people"]["value"] > 0.8 and used["judges"][0]["not_used"] is None
    assert used["weights"] == {"people": 0.2, "judge": 0.1}
    # another plan is refused: weights are stated before the results
    text = (copy / "plan.toml").read_text()
    (copy / "plan.toml").write_text(text.replace("weight = 0.1", "weight = 0.3"))
    assert "changed since: judge" in run_main("judge", copy / "plan.toml").err


def test_pages_are_trials_with_pictures(demo, run_main, tmp_path):
    record = demo[0] / "record.db"
    rows = [row for row in run_main("trials", record, "--only", "crew-week", "--json").json["trials"]]
    assert {row["outcome"] for row in rows} >= {"passed", "wrong-answer"}
    done = run_main("trials", record, "--open", rows[0]["id"], "--pictures", tmp_path / "seen")
    assert "pictures: " in done.out and "desktop" in done.out
    held = sorted((tmp_path / "seen").glob("*.png"))
    assert len(held) == 2 and all(path.read_bytes().startswith(b"\x89PNG") for path in held)
    opened = run_main("trials", record, "--open", rows[0]["id"], "--json").json["trial"]
    assert opened["attempts"][0]["pictures"]["phone_bytes"] == held[1].stat().st_size
    assert "Only pages have them" in run_main("trials", record, "--open", "1", "--pictures", tmp_path / "x").err
    assert "needs --open" in run_main("trials", record, "--pictures", tmp_path / "x").err
