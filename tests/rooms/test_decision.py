"""What criteria may ask of a record beyond the whole, what a decision rests on, and how it is handed on."""

import json
from xml.etree import ElementTree as ET

import pandas as pd
import pytest
from records import FAULT, PASSED, WRONG, Writer, editing

from kettlefield.core.acceptance import Status, Verdict
from kettlefield.core.errors import InputError
from kettlefield.decision.provenance import changes_since, standings
from kettlefield.decision.record_comparison import between
from kettlefield.plan.criteria import check_against_suite, decide, terms_of_text
from kettlefield.results.comparison import compare
from kettlefield.results.paired_comparison import mixed_settings
from kettlefield.results.reply_similarity import reply_agreements
from kettlefield.views.exports import TABLES, candidate_bill, criteria_xml, record_tables, write_tables

SERVED = {"server": {"context": 4096, "kv_bits": 16, "concurrency": 2}}


def criterion(measure, **sides):
    def toml(value):
        if isinstance(value, dict):
            return "{" + ", ".join(f"{name} = {json.dumps(inner)}" for name, inner in value.items()) + "}"
        return json.dumps(value)

    return "[[criterion]]\n" + "".join(
        f"{name} = {toml(value)}\n" for name, value in {"measure": measure, **sides}.items()
    )


@pytest.fixture
def write(tmp_path):
    counter = iter(range(9))
    return lambda **options: Writer(tmp_path / f"record{next(counter)}.db", **options)


def judged(writer, number=0, candidate=0):
    return decide(writer.record).verdicts[candidate].judgements[number]


def test_a_pass_rate_may_be_asked_of_a_part_of_the_suite(write):
    text = criterion("pass_rate", at_least=0.5, among={"kind": "repair"}) + criterion("pass_rate", at_least=0.5)
    writer = write(exercises=40, criteria=text, kinds=["repair"] * 20 + ["write"] * 20)
    ids = writer.candidate("m@q8_0")
    for exercise in range(40):
        writer.trial(ids, exercise, PASSED if exercise < 20 else WRONG)
    assert (judged(writer).found.value, judged(writer).found.n, judged(writer).status) == (1.0, 20, Status.MET)
    whole = judged(writer, 1)
    assert whole.found.value == 0.5 and whole.status is Status.UNDECIDED
    assert "hardly" not in whole.reason and "settle" not in whole.reason  # it lies on the threshold: nothing settles it


def test_no_worse_may_be_asked_of_a_part_too_and_half_of_it_decides_nothing(write):
    text = criterion("pass_rate", no_worse_than="reference", margin=0.3, among={"kind": "repair"})
    writer = write(exercises=40, criteria=text, kinds=["repair"] * 20 + ["write"] * 20)
    reference, level = writer.candidate("m@f16"), writer.candidate("m@q4_k_m")
    for exercise in range(40):
        writer.trial(reference, exercise, PASSED)
        if exercise != 3:
            writer.trial(level, exercise, PASSED if exercise < 20 else WRONG)
    assert judged(writer, candidate=1).reason == "19 of 20 trials are paired so far; run qualify to the end"
    writer.trial(level, 3, PASSED)
    found = judged(writer, candidate=1)
    assert (found.found.n, found.status) == (20, Status.MET)  # what it lost is not asked for


def test_outcomes_and_attempts_to_leave_the_sandbox_are_counted(write):
    text = criterion("outcome_count", at_most=0, outcomes=["wrong-answer"]) + criterion("escape_attempts", at_most=0)
    writer = write(exercises=3, criteria=text)
    ids = writer.candidate("m@q8_0")
    writer.trial(ids, 0, WRONG, detail="OSError: Network is unreachable", end="crashed")
    writer.trial(ids, 1, WRONG, detail="found 'Network is unreachable'", end="finished")  # its own words, no refusal
    assert judged(writer).reason.startswith("2 of 3 trials count so far")
    writer.trial(ids, 2, PASSED)
    assert [(judged(writer, n).found, judged(writer, n).status) for n in (0, 1)] == [
        (2.0, Status.NOT_MET),
        (1.0, Status.NOT_MET),
    ]


def test_a_speed_may_be_asked_at_a_depth_and_what_is_missing_says_what_measures_it(write):
    text = (
        criterion("decode_tps.p50", at_least="40 tokens/s", at_depth=4096, confidence=0.9)
        + criterion("decode_tps.p50", at_least="40 tokens/s", at_depth=8192)
        + criterion("capacity_rps", at_least="2 requests/s")
        + criterion("cold_load_s", at_most="9 s")
        + criterion("joules_per_solved", at_most="5 J")
        + criterion("stopwatch_floor_s", at_most="1 ms")
        + criterion("seconds_per_solved", at_most="1 s")
        + criterion("outcome_count", at_most=0, outcomes=["looping"])
    )
    writer = write(criteria=text, rig={"host": {}, "calibration": {"floor_s": 0.0004}})
    ids = writer.candidate("m@q8_0")
    for rate in (50, 51, 52, 53):
        writer.timed(ids, "depth", {"depth_tokens": 4096}, rate=rate, prompt=4096)
    writer.ended(ids, "open_loop", capacity_rps=2.5)
    busy = writer.candidate("m@q4_0")
    tries = [{"rate_rps": 1.0, "held": True}, {"rate_rps": 1.4, "held": False, "disturbed": "31 cores busy"}]
    writer.ended(busy, "open_loop", capacity_rps=1.0, fails_at_rps=1.4, tries=tries)
    in_doubt = judged(writer, 2, candidate=1)
    assert in_doubt.status is Status.UNDECIDED
    assert in_doubt.reason == "disturbed: 31 cores busy at 1.4 requests/s; measure it again: --again open_loop"
    found = [judged(writer, number) for number in range(8)]
    assert (found[0].found.n, found[0].status, found[0].criterion.label) == (
        4,
        Status.MET,
        "decode_tps.p50 (4,096 tokens deep)",
    )
    assert found[1].reason == "not measured; it needs 8192 among [speed.depth] tokens"
    assert (found[2].found, found[2].status) == (2.5, Status.MET)
    assert found[3].reason == "not measured; it needs [speed] cold_load = true"
    assert "energy counters" in found[4].reason and (found[5].found, found[5].status) == (0.0004, Status.MET)
    assert "something solved" in found[6].reason and "the answers part" in found[7].reason


@pytest.mark.parametrize(
    ("options", "words"),
    [
        ({"measure": "peak_bytes", "at_most": "1 GiB", "among": {"kind": "write"}}, "among is not for peak_bytes"),
        ({"measure": "pass_rate", "at_least": 0.5, "among": {"knd": "write"}}, 'Did you mean "kind"?'),
        ({"measure": "pass_rate", "at_least": 0.5, "at_depth": 64}, "at_depth = 64 is not for pass_rate"),
        ({"measure": "outcome_count", "at_most": 0}, "outcomes and outcome_count go together"),
        ({"measure": "outcome_count", "at_most": 0, "outcomes": ["loping"]}, 'Did you mean "looping"?'),
        ({"measure": "escape_attempts", "at_most": 0.5}, "whole number"),
        ({"measure": "capacity_rps", "at_least": "2 tokens/s"}, "requests/s"),
    ],
)
def test_a_criterion_that_makes_no_sense_is_refused(tmp_path, options, words):
    with pytest.raises(InputError) as caught:
        terms_of_text('title="t"\nsuite="s"\nrecord="r"\ncandidate=[]\n' + criterion(**options), tmp_path)
    assert words in str(caught.value)


def test_a_criterion_about_exercises_that_are_not_asked_is_refused(tmp_path):
    text = 'title="t"\nsuite="s"\nrecord="r"\ncandidate=[]\n' + criterion(
        "pass_rate", at_least=0.5, among={"language": "cobol"}
    )
    asked = [{"kind": "write", "language": "rust", "difficulty": "1", "topic": "tides", "suite": "s"}]
    with pytest.raises(InputError, match="no exercise asked is of language cobol"):
        check_against_suite(terms_of_text(text, tmp_path).criteria, asked, "plan.toml")


def test_a_baseline_stands_in_the_table_and_is_not_up_for_approval(write):
    writer = write(exercises=4, criteria=criterion("pass_rate", at_least=0.1))
    for name, baseline in (("m@f16", False), ("big@remote", True)):
        ids = writer.candidate(name, baseline=baseline)
        for exercise in range(4):
            writer.trial(ids, exercise, PASSED)
    decision = decide(writer.record)
    assert [row.baseline for row in decision.table.rows] == [False, True]
    assert [one.candidate for one in decision.verdicts] == ["m@f16"] and decision.of("big@remote") is None
    # compared with it by name, though it is another model
    against = compare(writer.record, reference="big@remote").rows[0].against
    assert (against.reference, against.pairs.pairs) == ("big@remote", 4)
    with pytest.raises(InputError, match='there is no candidate "big"'):
        compare(writer.record, reference="big")


def test_conditions_name_what_was_measured_under(write):
    writer = write(criteria=criterion("pass_rate", at_least=0.5))
    speed = {"depth": {"floor": 30.0}, "open_loop": {"requests_per_engineer_hour": 12}}
    ids = writer.candidate("m@f16", speed=speed, settings=SERVED)
    for depth, rate in ((100, 60), (1000, 20)):
        for _ in range(2):
            writer.timed(ids, "depth", {"depth_tokens": depth}, rate=rate, prompt=depth)
    writer.ended(ids, "open_loop", capacity_rps=0.5)
    found = decide(writer.record).conditions["m@f16"]
    assert found[0] == "context at most 4,096 tokens, KV cache at 16 bits, concurrency 2"
    assert "decoding falls below 30 tokens/s" in found[1]
    assert found[2] == "at most 0.5 requests/s (150 engineers who send 12 an hour each)"


def test_chances_in_several_samples_and_the_cost_of_a_solution_by_hand(write):
    writer = write(exercises=2, samples=2)
    ids = writer.candidate("m@f16")
    for exercise, outcomes in enumerate(((PASSED, WRONG), (PASSED, PASSED))):
        for sample, outcome in enumerate(outcomes, 1):
            writer.trial(ids, exercise, outcome, sample=sample, finished=3.0)
    writer.memory(ids, "answers", 2000, 1005)
    row = compare(writer.record).rows[0]
    assert row.pass_at_k == {1: 0.75, 2: 1.0}
    assert (row.score, row.seconds_per_solved) == (0.75, 4.0)
    assert row.byte_seconds_per_solved == 3000 * 4.0


def test_replies_are_held_against_the_references(write):
    writer = write(exercises=4)
    reference, level = (
        writer.candidate("m@f16"),
        writer.candidate("m@q4_k_m", settings={"sampling": {"temperature": 0.2}}),
    )
    pairs = [("same", "same", "x = 1", "x = 1"), ("berth 1", "berth 2", "x = 1", "x  =  1"), ("abcd", "abXd", "x", "y")]
    for exercise, (one, other, code, changed) in enumerate(pairs):
        writer.trial(reference, exercise, PASSED, reply=one, code=code)
        writer.trial(level, exercise, WRONG, reply=other, code=changed)
    writer.trial(reference, 3, PASSED)
    writer.trial(level, 3, FAULT)  # no reply, so no pair
    (found,) = reply_agreements(writer.record)
    assert (found.candidate, found.pairs, found.identical, found.same_code) == ("m@q4_k_m", 3, 1, 2)
    assert (found.parted_at_chars, found.parted_at_share) == (4.0, pytest.approx((6 / 7 + 2 / 4) / 2))
    assert mixed_settings(writer.record) == {
        "m@q4_k_m": "asked under other settings than m@f16: sampling temperature 0.2 instead of not there"
    }


def two_records(write, *, rate=100.0, passed=20, digest="ab", server="server 1"):
    """An old record and a new one of the same candidate."""
    found = []
    for number in range(2):
        writer = write(exercises=20, criteria=criterion("pass_rate", at_least=0.8))
        ids = writer.candidate("m@f16", description=server if number else "server 1")
        for exercise in range(20):
            writer.trial(ids, exercise, PASSED if exercise < (passed if number else 20) else WRONG)
        for step in range(6):
            point = {"prompt_tokens": 64, "reply_tokens": 8}
            writer.timed(ids, "latency", point, rate=(rate if number else 100.0) + step / 10)
        writer.memory(ids, "answers", 1000, 0)
        found.append(writer)
    records = [writer.record for writer in found]
    with editing(records[1]) as connection:
        connection.exec_driver_sql("UPDATE candidate SET weights_sha256 = ?", (digest,))
    return between(*records, tuple(decide(record).verdicts for record in records))[0], records


def test_two_alike_records_show_no_change_no_move_and_no_flip(write):
    found, _ = two_records(write)
    assert found.changes == () and found.flips == () and found.not_compared == ()
    assert {move.figure for move in found.moves} == {
        "pass_rate",
        "ttft_s.p50",
        "decode_tps.p50",
        "peak_bytes",
        "load_s",
    }
    assert not any(move.moved for move in found.moves)


def test_what_changed_moved_and_flipped_is_named(write):
    found, records = two_records(write, rate=80.0, passed=8, digest="cd", server="server 2")
    assert [(change.what, change.now) for change in found.changes] == [
        ("server says", "server 2"),
        ("weights sha256", "cd"),
    ]
    assert {move.figure for move in found.moves if move.moved} == {"pass_rate", "decode_tps.p50"}
    ratio = next(move.change for move in found.moves if move.figure == "decode_tps.p50")
    assert ratio.value == pytest.approx(80.25 / 100.25)
    assert [(flip.then, flip.now) for flip in found.flips] == [("met", "not met")]
    with editing(records[1]) as connection:
        connection.exec_driver_sql("UPDATE campaign SET suite_digest = 'sha256:other'")
    again = between(*records, tuple(decide(record).verdicts for record in records))[0]
    assert "pass_rate" not in {move.figure for move in again.moves}
    assert again.not_compared == ("pass rate: the suites differ, so the exercises are not the same",)


def test_what_changed_on_this_machine_since_is_told_without_starting_anything(write, tmp_path):
    from kettlefield.rig.survey import rig_state
    from kettlefield.server.loaded import digest_programs
    from kettlefield.weights.digests import weights_digest

    script, weights = tmp_path / "serve.sh", tmp_path / "w.bin"
    script.write_text("#!/bin/sh\n")
    weights.write_bytes(b"weights")
    programs = digest_programs(["sh", "serve.sh", "w.bin", "--port", "1"], tmp_path, apart_from=[weights])
    assert [path.rsplit("/", 1)[1] for path in programs] == ["sh", "serve.sh"]
    writer = write(rig=rig_state({"python"}, set()))
    writer.candidate("m@f16", program=programs)
    with editing(writer.record) as connection:
        row = (str(weights), weights_digest(weights))
        connection.exec_driver_sql("UPDATE candidate SET weights_path = ?, weights_sha256 = ?", row)
    assert changes_since(writer.record, folder=tmp_path) == {"m@f16": ()}
    script.write_text("#!/bin/sh\necho new\n")
    weights.write_bytes(b"others!")
    found = changes_since(writer.record, folder=tmp_path)["m@f16"]
    assert [change.what for change in found] == [f"server program {script}", "weights sha256"]
    weights.unlink()
    assert changes_since(writer.record, folder=tmp_path)["m@f16"][1].now == "not there"


@pytest.fixture
def decided(write):
    writer = write(exercises=20, criteria=criterion("pass_rate", at_least=0.5) + criterion("peak_bytes", at_most="1 GiB"), facts={"licence": "MIT", "files": [{"name": "w.gguf", "bytes": 5, "sha256": "ab" * 32}]})  # fmt: skip
    for name, passed in (("m@f16", 20), ("m@q2_k", 0), ("m@q4_k_m", 10)):
        ids = writer.candidate(name)
        for exercise in range(20):
            writer.trial(ids, exercise, PASSED if exercise < passed else WRONG, reply="=cmd()")
        if name != "m@q4_k_m":
            writer.memory(ids, "answers", 1000, 0)
    return writer


def test_criteria_as_xml_call_the_undecided_an_error_never_a_success(decided):
    root = ET.fromstring(criteria_xml(decide(decided.record)))
    assert {name: root.get(name) for name in ("tests", "failures", "errors")} == {
        "tests": "6",
        "failures": "1",
        "errors": "2",
    }
    failure, *errors = root.findall(".//failure") + root.findall(".//error")
    assert "0.00 (0.00 to 0.12), n = 20" in failure.get("message")
    assert any("not measured" in error.get("message") for error in errors)
    assert [one.get("value") for one in root.findall(".//property[@name='verdict']")] == [
        "approved",
        "rejected",
        "undecided",
    ]


def test_a_bill_of_materials_is_of_what_was_approved_and_holds_to_its_schema(decided):
    decision, grounds = decide(decided.record), standings(decided.record)
    bill = json.loads(candidate_bill(decision, decision.verdicts[0], grounds["m@f16"], ()))
    component = bill["metadata"]["component"]
    assert (bill["bomFormat"], bill["specVersion"], component["type"]) == ("CycloneDX", "1.6", "machine-learning-model")
    assert component["hashes"] == [{"alg": "SHA-256", "content": "ab" * 32}]
    assert component["licenses"] == [{"expression": "MIT"}]
    metric = component["modelCard"]["quantitativeAnalysis"]["performanceMetrics"][0]
    assert metric["value"] == "1" and float(metric["confidenceInterval"]["lowerBound"]) > 0.5
    for verdict in decision.verdicts[1:]:
        assert verdict.verdict is not Verdict.APPROVED
        with pytest.raises(InputError, match="is of what was approved"):
            candidate_bill(decision, verdict, grounds[verdict.candidate], ())


def test_tables_hold_what_their_dictionary_says_and_no_formulas(decided, tmp_path):
    decided.timed((1, 1), "latency", {"prompt_tokens": 64}, prompt=64)
    tables = record_tables(decided.record)
    assert {name: list(frame.columns) for name, frame in tables.items()} == {
        name: [column.name for column in columns] for name, columns in TABLES.items()
    }
    assert (len(tables["trials"]), len(tables["samples"])) == (60, 1)
    with editing(decided.record) as connection:
        connection.exec_driver_sql("UPDATE exchange SET finish_reason = '=HYPERLINK(1)'")
    for form in ("csv", "parquet"):
        assert write_tables(decided.record, tmp_path, form)[0].name == f"trials.{form}"
    rows = pd.read_csv(tmp_path / "trials.csv")
    assert (rows["finish_reason"][0], rows["topics"][0]) == ("'=HYPERLINK(1)", "tides")
    described = pd.read_csv(tmp_path / "data-dictionary.csv")
    assert set(zip(described["table"], described["column"], strict=True)) >= {("samples", "ttft_s")}
    assert pd.read_parquet(tmp_path / "trials.parquet")["outcome"].value_counts()["passed"] == 30
