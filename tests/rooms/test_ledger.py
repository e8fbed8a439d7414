"""Signatures: what they cover, and what an audit finds of a record that was changed afterwards."""

import sqlite3
from pathlib import Path

import pytest
from records import PASSED, WRONG, Writer

from kettlefield.core.acceptance import Status
from kettlefield.core.errors import InputError
from kettlefield.decision.ledger import audit, sign
from kettlefield.plan.criteria import decide
from kettlefield.record import schema
from kettlefield.record.signed_rows import results_digest, signatures
from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts
from kettlefield.results.memory_use import memories
from kettlefield.results.speed import timings

VERDICTS = {"m@f16": "approved"}


@pytest.fixture
def signed(tmp_path):
    writer = Writer(tmp_path / "record.db")
    ids = writer.candidate("m@f16")
    for exercise, outcome in enumerate((PASSED, WRONG)):
        writer.trial(ids, exercise, outcome)
    for name in ("A. Sandpiper", "B. Dunlin"):
        sign(writer.record, by=name, note="the berth desk only", verdicts=VERDICTS)
    writer.ids = ids
    return writer


def edit(writer, statement):
    writer.record.close()
    with sqlite3.connect(writer.path) as connection:
        connection.execute("PRAGMA foreign_keys = OFF")
        connection.execute(statement)
    connection.close()
    return audit(Record.open(writer.path)).faults


def test_an_unchanged_record_stands(signed):
    found = audit(signed.record)
    assert found.faults == () and [one.signed_by for one in found.signatures] == ["A. Sandpiper", "B. Dunlin"]
    assert found.signatures[1].previous_digest == found.signatures[0].digest
    assert found.signatures[0].verdicts == VERDICTS
    assert results_digest(signed.record, schema.FORMAT) == found.signatures[1].results_digest


@pytest.mark.parametrize(
    ("statement", "said"),
    [
        ("UPDATE trial SET outcome = 'passed' WHERE id = 2", "the results changed since B. Dunlin signed"),
        ("UPDATE check_result SET detail = detail || ' ' WHERE id = 1", "the results changed"),
        ("DELETE FROM memory_block", None),  # there is none: nothing changes
        ("DELETE FROM trial WHERE id = 1", "the results changed"),
        ("UPDATE exchange SET decode_tps = 99 WHERE id = 1", "the results changed"),
        ("UPDATE campaign SET plan_text = plan_text || '# easier'", "not the one that the campaign began with"),
        ("UPDATE campaign SET suite_digest = 'sha256:other'", "the suite changed"),
        ("UPDATE signature SET note = 'anything' WHERE id = 1", "signature 1 was changed"),
        ("UPDATE signature SET verdicts = '{}' WHERE id = 2", "signature 2 was changed"),
        ("DELETE FROM signature WHERE id = 1", "does not follow"),
    ],
)
def test_whatever_is_changed_afterwards_is_found(signed, statement, said):
    faults = edit(signed, statement)
    assert any(said in fault for fault in faults) if said else faults == ()


def test_going_on_with_a_signed_campaign_shows_and_signing_again_settles_it(signed):
    signed.trial(signed.ids, 2, PASSED)
    assert "the results changed since B. Dunlin signed" in audit(signed.record).faults
    sign(signed.record, by="C. Knot", note="", verdicts=VERDICTS)
    assert audit(signed.record).faults == ()


@pytest.mark.parametrize(
    ("by", "note", "said"), [("  ", "", "is not a name"), ("a\x1b[1m", "", "is not a name"), ("A", "x" * 2001, "2001")]
)
def test_a_signature_wants_a_name_and_a_short_note(signed, by, note, said):
    with pytest.raises(InputError, match=said):
        sign(signed.record, by=by, note=note, verdicts={})


def test_signing_and_auditing_from_the_command_line(signed, run_main):
    path = signed.path
    signed.record.close()
    assert run_main("decide", path, "--audit").code == 0
    done = run_main("decide", path, "--by", "D. Plover", "--note", "\x1b[31mred", "--json")
    assert "signed by D. Plover: sha256:" in done.err and done.json["verdicts"]
    shown = run_main("decide", path, "--audit")
    assert "Nothing in the record was changed" in shown.out and "\x1b" not in shown.out
    assert [one["by"] for one in run_main("decide", path, "--audit", "--json").json["signatures"]][2] == "D. Plover"
    assert edit(signed, "UPDATE trial SET score = 0.5 WHERE id = 1")
    assert run_main("decide", path, "--audit").code == 1
    alone = run_main("decide", path, "--note", "why")
    assert (alone.code, "--by NAME" in alone.err, alone.err.count("\n")) == (2, True, 1)


@pytest.fixture
def of_format_7(tmp_path):
    """A record that format 7 wrote and signed, as its own dump."""
    path = tmp_path / "seven.db"
    with sqlite3.connect(path) as connection:
        connection.executescript((Path(__file__).parents[1] / "format_7.sql").read_text())
    connection.close()
    return path


def test_a_signed_record_of_format_7_is_read_under_the_present_names_and_its_signature_holds(of_format_7):
    record = Record.open(of_format_7)
    assert audit(record).faults == ()
    (verdict,) = decide(record).verdicts
    assert [(one.criterion.measure, one.status) for one in verdict.judgements] == [
        ("pass_rate", Status.MET),
        ("ttft_s.p50", Status.MET),
    ]
    (timing,) = timings(record)
    assert (timing.closed_loop.rates_tps, timing.closed_loop.saturation_concurrency) == ((90.0, 95.0), 1)
    assert (timing.capacity.holds_rps, timing.capacity.engineers) == (2.0, 600)
    phases = [(one.phase, one.concurrency) for one in memories(record)[0].phases]
    assert phases == [("closed_loop", 1), ("closed_loop", 4), ("answers", None)]
    assert campaign_facts(record)["simulated"]
    # signed again, the present format is what is signed
    sign(record, by="A. Plover", note="", verdicts={"m@f16": "approved"})
    assert audit(record).faults == () and [one.format for one in signatures(record)] == [None, schema.FORMAT]


@pytest.mark.parametrize(
    "harm",
    ["UPDATE exchange SET gap_p50_s = 0.01 WHERE id = 4", "DELETE FROM assessment", "UPDATE trial SET score = 1"],
)
def test_what_was_changed_in_a_record_of_format_7_is_noticed_after_its_migration(of_format_7, harm):
    with sqlite3.connect(of_format_7) as connection:
        connection.execute(harm)
    connection.close()
    assert audit(Record.open(of_format_7)).faults == ("the results changed since R. Tern signed",)
