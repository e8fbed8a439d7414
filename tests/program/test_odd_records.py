"""Commands on records that are odd but true: nothing passed, all passed, one exercise, half a campaign, ties; and on bad ones."""

import json
import sqlite3
import subprocess

import pytest
from records import FAULT, PASSED, WRONG, Writer

from kettlefield.campaign.serving import key_headers
from kettlefield.cli.main import main
from kettlefield.core.errors import InputError
from kettlefield.decision.ledger import find_signer, sign_text
from kettlefield.record import schema

CRITERIA = """
[[criterion]]
measure = "pass_rate"
at_least = 0.5
[[criterion]]
measure = "pass_rate"
no_worse_than = "reference"
margin = 0.1
[[criterion]]
measure = "decode_tps.p10"
at_least = 10
"""
COMMANDS = (
    ("compare",),
    *(("compare", "--part", part) for part in ("solved", "speed", "memory", "cost", "replies")),
    *(("compare", "--by", what) for what in ("kind", "outcome")),
    ("compare", "--pairs"),
    ("compare", "--csv"),
    ("decide",),
    ("decide", "--audit"),
    ("trials",),
)


def run(capsys, *words):
    """The program in this process: exit code, what it printed, what it said."""
    code = main([str(word) for word in words])
    done = capsys.readouterr()
    assert "Traceback" not in done.err
    return code, done.out, done.err


def written(path, outcomes, *, exercises=None):
    """A record of a reference level and another; for each the outcomes of its exercises, as far as they were asked."""
    count = exercises or max(len(one) for one in outcomes.values())
    writer = Writer(path / "record.db", exercises=count, criteria=CRITERIA)
    for name, found in outcomes.items():
        ids = writer.candidate(name)
        for exercise, outcome in enumerate(found):
            writer.trial(ids, exercise, outcome)
    return writer.path


ODD = {
    "nothing passed": {"m@f16": [WRONG] * 12, "m@q2_k": [WRONG] * 12},
    "all passed": {"m@f16": [PASSED] * 12, "m@q2_k": [PASSED] * 12},
    "one exercise": {"m@f16": [PASSED], "m@q2_k": [WRONG]},
    "a tie with wins and losses": {"m@f16": [PASSED, WRONG] * 6, "m@q2_k": [WRONG, PASSED] * 6},
    "faults alone": {"m@f16": [FAULT] * 3, "m@q2_k": [FAULT] * 3},
    "a level without its reference": {"m@q8_0": [PASSED] * 4, "m@q2_k": [WRONG] * 4},
    "nothing asked": {"m@f16": [], "m@q2_k": []},
}


@pytest.mark.parametrize("name", ODD)
def test_every_command_ends_well_on_an_odd_record(tmp_path, capsys, name):
    record = written(tmp_path, ODD[name], exercises=12 if name == "nothing asked" else None)
    for command, *options in COMMANDS:
        code, out, err = run(capsys, command, record, *options)
        assert code in {0, 1, 4} and out.strip(), (command, options, err)
    code, out, _ = run(capsys, "compare", record, "--json")
    assert all("pass_rate" in row for row in json.loads(out)["candidates"])
    assert run(capsys, "compare", record, record)[0] == 0
    assert run(capsys, "export", record, "-o", tmp_path / "out")[0] == 0
    if name in {"nothing asked", "faults alone", "one exercise"}:  # where there is least to draw
        assert run(capsys, "report", record, "-o", tmp_path / "page", "--markdown")[0] == 0


@pytest.mark.parametrize(
    ("name", "statuses"),
    [
        ("nothing passed", ["not met", "undecided"]),  # no worse than nothing is not shown by twelve pairs
        ("all passed", ["met", "undecided"]),
        ("one exercise", ["undecided", "undecided"]),
        ("a level without its reference", ["not met", "undecided"]),
        ("faults alone", ["undecided", "undecided"]),
    ],
)
def test_little_evidence_decides_little(tmp_path, capsys, name, statuses):
    record = written(tmp_path, ODD[name])
    _, out, _ = run(capsys, "decide", record, "--candidate", "m@q2_k", "--json")
    criteria = json.loads(out)["verdicts"][0]["criteria"]
    assert [one["status"] for one in criteria[:2]] == statuses
    assert criteria[2]["reason"] == "not measured; it needs [speed] requests above 0"


def test_half_a_campaign_decides_nothing_however_well_it_went(tmp_path, capsys):
    record = written(tmp_path, {"m@f16": [PASSED] * 40, "m@q2_k": [PASSED] * 39}, exercises=40)
    code, out, _ = run(capsys, "decide", record, "--json")
    reasons = {one["candidate"]: one["criteria"][0]["reason"] for one in json.loads(out)["verdicts"]}
    assert code == 4 and reasons == {"m@f16": "", "m@q2_k": "39 of 40 trials count so far; run qualify to the end"}


@pytest.mark.parametrize(
    ("harm", "words"),
    [
        (
            f"UPDATE alembic_version SET version_num = '{schema.FORMAT + 1}'",
            "this version reads up to",
        ),
        ("DELETE FROM alembic_version", "is not a Kettlefield record"),
        ("DELETE FROM campaign", "holds no campaign yet"),
        ("UPDATE campaign SET plan_text = 'title ='", "holds a plan that is not valid TOML"),
        ("UPDATE campaign SET plan_text = replace(plan_text, '0.5', '\"half\"')", "at_least is"),
    ],
)
def test_a_record_that_was_edited_or_is_too_new_is_refused_in_one_line(tmp_path, capsys, harm, words):
    record = written(tmp_path, {"m@f16": [PASSED]})
    with sqlite3.connect(record) as connection:
        connection.execute("PRAGMA foreign_keys = OFF")
        connection.execute(harm)
    connection.close()
    for command in ("decide", "report"):
        code, out, err = run(capsys, command, record, *(["-o", tmp_path / "page"] if command == "report" else []))
        assert (code, out, err.count("\n")) == (2, "", 1)
        assert words in err


def test_records_that_share_no_candidate_are_not_held_together(tmp_path, capsys):
    (tmp_path / "a").mkdir()
    (tmp_path / "b").mkdir()
    records = [written(tmp_path / folder, {f"{folder}@f16": [PASSED]}) for folder in ("a", "b")]
    code, _, err = run(capsys, "compare", *records)
    assert (code, "shares no candidate" in err) == (2, True)


def test_a_key_is_read_from_the_environment_and_a_bad_one_is_refused(monkeypatch):
    assert key_headers(None) == {}
    monkeypatch.setenv("BERTH_KEY", "halyard")
    assert key_headers("BERTH_KEY") == {"Authorization": "Bearer halyard"}
    for value in ("", "two\nlines", "quay\N{LATIN SMALL LETTER E WITH ACUTE}"):
        monkeypatch.setenv("BERTH_KEY", value)
        with pytest.raises(InputError, match="environment variable BERTH_KEY"):
            key_headers("BERTH_KEY")


@pytest.fixture(scope="module")
def key(tmp_path_factory):
    path = tmp_path_factory.mktemp("keys") / "id"
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", path], check=True)
    return path


def allowed(folder, key, name="tern@saltmarsh.example", options=""):
    path = folder / "allowed"
    public = " ".join(key.with_suffix(".pub").read_text().split()[:2])
    path.write_text(f"{name} {options}{public}\n")
    return path


def test_an_ssh_signature_is_of_one_text_one_key_and_one_purpose(tmp_path, key):
    signature = tmp_path / "sig"
    signature.write_text(sign_text("sha256:abc", key))
    signers = allowed(tmp_path, key)
    assert find_signer("sha256:abc", signature, signers) == "tern@saltmarsh.example"
    assert find_signer("sha256:abd", signature, signers) is None  # another text
    assert find_signer("sha256:abc", signature, allowed(tmp_path, key, options='namespaces="git" ')) is None
    other = tmp_path / "other"
    subprocess.run(["ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", other], check=True)
    assert find_signer("sha256:abc", signature, allowed(tmp_path, other)) is None  # another key
    signature.write_text("no signature at all\n")
    assert find_signer("sha256:abc", signature, allowed(tmp_path, key)) is None


def test_what_cannot_sign_or_be_checked_says_so(tmp_path, key, monkeypatch):
    with pytest.raises(InputError, match="there is no such key"):
        sign_text("x", tmp_path / "none")
    broken = tmp_path / "broken"
    broken.write_text("this is not a key\n")
    broken.chmod(0o600)
    with pytest.raises(InputError, match="cannot sign"):
        sign_text("x", broken)
    with pytest.raises(InputError, match="there is no such file"):
        find_signer("x", tmp_path / "none", allowed(tmp_path, key))
    monkeypatch.setenv("PATH", str(tmp_path))
    with pytest.raises(InputError, match="there is no ssh-keygen"):
        sign_text("x", key)
