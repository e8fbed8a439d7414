"""Comparison and verdict on records written by hand: every figure is known beforehand."""

import json

import pandas as pd
import pytest
from records import FAULT, PASSED, WRONG, Writer

from kettlefield.core.acceptance import Status, Verdict
from kettlefield.core.errors import InputError
from kettlefield.core.statistics.intervals import pass_ratio, wilson_interval
from kettlefield.decision.verdict import overall, reach_verdicts, recommendations
from kettlefield.plan.criteria import terms_of_text
from kettlefield.record.store import Record
from kettlefield.results import frames
from kettlefield.results.breakdown import pass_rates_by
from kettlefield.results.comparison import compare, on_frontier
from kettlefield.results.frames import campaign_facts, notes, speed_frame, trials_frame
from kettlefield.results.rows import open_trial


@pytest.fixture
def write(tmp_path):
    return lambda **options: Writer(tmp_path / "record.db", **options)


def test_solved_pass_rate_and_cost_by_hand(write):
    writer = write(exercises=4)
    ids = writer.candidate("m@f16")
    for exercise, outcome in enumerate((PASSED, PASSED, WRONG)):
        writer.trial(ids, exercise, outcome, tokens=100, finished=2.0)
    writer.trial(ids, 3, FAULT)
    row = compare(writer.record).rows[0]
    assert (row.planned, row.trials, row.solved, row.faults) == (4, 3, 2, 1)
    # the fault is beside the model's correctness, never in it
    assert (row.pass_rate.low, row.pass_rate.high) == pytest.approx(wilson_interval(2, 3))
    assert row.outcomes == {"passed": 2, "wrong-answer": 1, "server-fault": 1}
    assert (row.tokens_per_solved, row.seconds_per_solved) == (150.0, 3.0)
    assert (row.reference, row.model, row.level) == (True, "m", "f16")


@pytest.mark.parametrize("rows_at_once", [1, 2, 3])
def test_rows_that_are_read_in_parts_are_the_same(write, monkeypatch, rows_at_once):
    """With what is empty in one part and not in the next: a fault's figures, and a whole number."""
    writer = write(exercises=5)
    ids = writer.candidate("m@f16")
    for exercise, outcome in enumerate((FAULT, FAULT, PASSED, WRONG, FAULT)):
        writer.trial(ids, exercise, outcome, tokens=None if outcome is FAULT else 100)
    whole = trials_frame(writer.record)
    monkeypatch.setattr(frames, "ROWS_AT_ONCE", rows_at_once)
    pd.testing.assert_frame_equal(trials_frame(Record.open(writer.path)), whole, check_dtype=False)


def test_samples_of_one_exercise_are_discounted(write):
    writer = write(exercises=3, samples=2)
    ids = writer.candidate("m@q8_0")
    for exercise, outcomes in enumerate(((PASSED, PASSED), (PASSED, PASSED), (WRONG, WRONG))):
        for sample, outcome in enumerate(outcomes, 1):
            writer.trial(ids, exercise, outcome, sample=sample)
    rate = compare(writer.record).rows[0].pass_rate
    by_hand = pass_ratio([2, 2, 0], [2, 2, 2])
    assert (rate.low, rate.high, rate.n) == (by_hand.low, by_hand.high, 6)
    assert (rate.low, rate.high) == pytest.approx(wilson_interval(2, 3))


def test_variants_of_one_exercise_are_one_task(write):
    """Four tasks on two seeds: two are lost on both, so two tasks are lost and not four."""
    writer = write(exercises=4, seeds=2)
    reference, level = writer.candidate("m@f16"), writer.candidate("m@q8_0")
    for exercise in range(8):
        writer.trial(reference, exercise, WRONG if exercise >= 6 else PASSED)
        writer.trial(level, exercise, PASSED if exercise < 2 else WRONG)
    first, second = compare(writer.record).rows
    assert (second.against.pairs.pairs, second.against.pairs.exercises) == (8, 4)
    assert second.against.lost == ("e1-0", "e1-1", "e2-0", "e2-1") and second.against.p == 0.5
    # as wide as one seed alone would be: the second said the same
    assert (second.pass_rate.low, second.pass_rate.high) == pytest.approx(wilson_interval(1, 4))
    (pair,) = second.seeds
    assert pair.between_seeds.value == 1.0 and pair.between_samples is None and first.pass_rate.value == 0.75


def test_what_is_noted_of_several_candidates_is_said_once(write):
    writer = write()
    ids = [writer.candidate(name)[0] for name in ("m@f16", "m@q8_0")]
    for candidate, text in (
        (ids[0], "m@f16: it is slow"), (None, "the clock was set"), (ids[1], "m@q8_0: it is slow"),
        (ids[0], "m@q8_0 is like it"),
    ):  # fmt: skip
        writer.record.save_note(text, candidate)
    assert notes(writer.record) == [
        "m@f16, m@q8_0: it is slow", "the clock was set", "m@q8_0 is like it"
    ]  # fmt: skip


def test_repaired_trials_are_apart_from_those_solved_first_time(write):
    writer = write()
    ids = writer.candidate("m@q8_0")
    writer.trial(ids, 0, PASSED)
    writer.trial(ids, 1, WRONG, PASSED)
    writer.trial(ids, 2, WRONG, WRONG, WRONG)
    row = compare(writer.record).rows[0]
    assert (row.solved, row.solved_after_repair) == (1, {1: 1})
    assert row.pass_rate.value == pytest.approx(1 / 3)
    assert row.outcomes == {"passed": 2, "wrong-answer": 1}
    frame = trials_frame(writer.record)
    assert list(frame["attempts"]) == [1, 2, 3]
    assert list(frame["first_outcome"]) == ["passed", "wrong-answer", "wrong-answer"]


def test_only_requests_timed_alone_and_without_fault_enter_speed(write):
    writer = write()
    ids = writer.candidate("m@q8_0")
    for first in (0.1, 0.2, 0.4):
        writer.record.save_exchange(writer.exchange(ids, stamps=(first, first + 0.5), tokens=11, purpose="latency"))
    writer.record.save_exchange(writer.exchange(ids, stamps=(9.0, 9.1), purpose="warm-up"))
    writer.record.save_exchange(writer.exchange(ids, stamps=(9.0, 9.1), purpose="latency", concurrency=2))
    writer.record.save_exchange(writer.exchange(ids, stamps=(9.0, 9.1), purpose="latency", fault="broke off"))
    writer.trial(ids, 0, PASSED, stamps=(9.0, 9.1))
    row = compare(writer.record).rows[0]
    assert row.speed["ttft_s"] == (0.1, 0.2, 0.4)
    assert row.speed["decode_tps"] == pytest.approx((11.0, 11.0, 11.0))  # by hand: 11 x (1 - 1/2) / 0.5 s
    assert len(speed_frame(writer.record)) == 3


def test_memory_is_the_highest_of_all_phases_and_held_against_the_prediction(write):
    writer = write(facts={"predicted_bytes": 1000, "decode_ceiling_tps": 80.0, "licence": "MIT"})
    ids = writer.candidate("m@q8_0")
    writer.memory(ids, "load", 100, 400)
    writer.memory(ids, "answers", 300, 505)
    writer.record.save_exchange(writer.exchange(ids, stamps=(0.1, 0.6), tokens=21, purpose="latency"))
    row = compare(writer.record).rows[0]
    assert (row.peak_bytes, row.host_peak_bytes, row.accelerator_peak_bytes, row.load_s) == (800, 300, 505, 1.5)
    assert row.prediction_error == pytest.approx(0.2)
    assert row.ceiling_share == pytest.approx(21 * (1 - 1 / 2) / 0.5 / 80)


def test_what_was_not_measured_is_none_not_zero(write):
    writer = write()
    writer.candidate("m@q8_0")
    row = compare(writer.record).rows[0]
    assert (row.pass_rate, row.peak_bytes, row.tokens_per_solved, row.prediction_error, row.ceiling_share) == (
        None,
    ) * 5
    assert row.speed == {"ttft_s": (), "decode_tps": ()}


def test_a_simulated_server_makes_the_whole_table_simulated(write):
    writer = write()
    writer.candidate("m@f16")
    assert compare(writer.record).simulated is False
    writer.candidate("m@q8_0", description="stand-in (simulated)")
    assert compare(writer.record).simulated is True
    assert campaign_facts(writer.record)["suite_name"] == "berthdesk"


def test_an_empty_record_says_what_to_do(tmp_path):
    record = Record.create_or_open(tmp_path / "r.db")
    with pytest.raises(InputError, match=r"no campaign yet.*qualify"):
        compare(record)
    writer = Writer(tmp_path / "other.db")
    with pytest.raises(InputError, match="no trial 5.*holds none"):
        open_trial(writer.record, 5)


def test_a_trial_opens_whole(write):
    writer = write()
    ids = writer.candidate("m@q8_0")
    writer.trial(ids, 1, WRONG, PASSED)
    trial = open_trial(writer.record, 1)
    assert (trial["candidate"], trial["exercise_id"], trial["outcome"]) == ("m@q8_0", "e1", "passed")
    first, second = trial["attempts"]
    assert (first["outcome"], second["outcome"], first["how"], first["remarks"]) == (
        "wrong-answer",
        "passed",
        "the only block",
        ["r"],
    )
    assert first["exchange"]["messages"] == [{"role": "user", "content": "berth?"}]
    assert (first["exchange"]["reply"], first["files"], first["checks"][0]["detail"]) == (
        "B1",
        {"answer.py": "x"},
        "why",
    )
    json.dumps(trial)  # it is plain data throughout


def test_the_same_prompt_is_kept_once(write):
    writer = write()
    ids = writer.candidate("m@q8_0")
    for exercise in range(3):
        writer.trial(ids, exercise, PASSED)
    with writer.record.reading() as connection:
        assert connection.exec_driver_sql("SELECT count(*) FROM prompt").scalar() == 1
        assert connection.exec_driver_sql("SELECT count(*) FROM exchange").scalar() == 3


def criterion(measure, **sides):
    lines = [f'measure = "{measure}"', *(f"{name} = {json.dumps(value)}" for name, value in sides.items())]
    return "[[criterion]]\n" + "\n".join(lines) + "\n"


def verdicts(writer, path):
    facts = campaign_facts(writer.record)
    terms = terms_of_text(facts["plan_text"], path)
    return reach_verdicts(writer.record, compare(writer.record), terms.criteria, terms.weights)


@pytest.mark.parametrize(
    ("passed", "total", "at_least", "status"),
    [
        # one-sided 95 % bounds are Wilson's at 90 % two-sided: 20 of 20 gives 0.881 to 1, 10 of 20 gives 0.327 to 0.673
        (20, 20, 0.88, Status.MET),
        (20, 20, 0.89, Status.UNDECIDED),
        (10, 20, 0.67, Status.UNDECIDED),
        (10, 20, 0.68, Status.NOT_MET),
        (0, 20, 0.2, Status.NOT_MET),
    ],
)
def test_a_pass_rate_is_judged_by_its_bound(write, tmp_path, passed, total, at_least, status):
    writer = write(exercises=total, criteria=criterion("pass_rate", at_least=at_least))
    ids = writer.candidate("m@q8_0")
    for exercise in range(total):
        writer.trial(ids, exercise, PASSED if exercise < passed else WRONG)
    assert verdicts(writer, tmp_path)[0].judgements[0].status is status


def test_confidence_moves_the_bound(write, tmp_path):
    both = criterion("pass_rate", at_least=0.85) + criterion("pass_rate", at_least=0.85, confidence=0.999)
    writer = write(exercises=20, criteria=both)
    ids = writer.candidate("m@q8_0")
    for exercise in range(20):
        writer.trial(ids, exercise, PASSED)
    found = [judgement.status for judgement in verdicts(writer, tmp_path)[0].judgements]
    assert found == [Status.MET, Status.UNDECIDED]


def test_every_kind_of_criterion_and_its_reason(write, tmp_path):
    text = "".join(
        (
            criterion("ttft_s.p50", at_most="1 s"),
            criterion("ttft_s.p95", at_most="1 s"),
            criterion("decode_tps.p10", at_least="5 tokens/s"),
            criterion("peak_bytes", at_most="1 KiB"),
            criterion("load_s", at_most="1 s"),
            criterion("prediction_error", at_most=0.5),
            criterion("licence", one_of=["MIT"]),
            criterion("pass_rate", at_least=0.5),
        )
    )
    writer = write(criteria=text, facts={"licence": "GPL-3.0-only"})
    ids = writer.candidate("m@q8_0")
    for _ in range(12):
        writer.record.save_exchange(writer.exchange(ids, stamps=(0.1, 0.6), tokens=11, purpose="latency"))
    writer.memory(ids, "load", 600, 400)
    found = verdicts(writer, tmp_path)[0]
    assert [j.status.value for j in found.judgements] == [
        "met", "undecided", "undecided", "met", "not met", "undecided", "not met", "undecided",
    ]  # fmt: skip
    reasons = [j.reason for j in found.judgements]
    assert reasons[1] == "n = 12 cannot bound it; it takes 59"
    assert reasons[2] == "n = 12 cannot bound it; it takes 29"  # 0.9**29 = 0.047 <= 0.05 < 0.9**28
    assert reasons[7] == "not measured; it needs the answers part"
    assert reasons[5].startswith("not measured; it needs weights whose header is read")
    assert found.verdict is Verdict.REJECTED


def test_a_licence_that_nobody_gave_is_undecided(write, tmp_path):
    writer = write(criteria=criterion("licence", one_of=["MIT"]))
    writer.candidate("m@q8_0")
    found = verdicts(writer, tmp_path)[0]
    assert (found.verdict, found.judgements[0].reason) == (
        Verdict.UNDECIDED,
        "the weights give no licence that SPDX knows",
    )


def test_the_exit_code_follows_the_best_candidate(write, tmp_path):
    writer = write(exercises=20, criteria=criterion("pass_rate", at_least=0.6))
    for name, passed in (("m@f16", 20), ("m@q4_k_m", 13), ("m@q2_k", 1)):
        ids = writer.candidate(name)
        for exercise in range(20):
            writer.trial(ids, exercise, PASSED if exercise < passed else WRONG)
    found = verdicts(writer, tmp_path)
    assert [v.verdict.value for v in found] == ["approved", "undecided", "rejected"]
    assert overall(found) is Verdict.APPROVED
    assert overall(found[1:]) is Verdict.UNDECIDED
    assert overall(found[2:]) is Verdict.REJECTED
    assert overall(()) is Verdict.UNDECIDED


def test_hostile_names_in_a_record_reach_no_terminal(write, tmp_path, run_cli):
    writer = write(criteria=criterion("pass_rate", at_least=0.5))
    name = "\x1b[31mred[bold]\u202e@f16"
    ids = writer.candidate(name)
    for exercise in range(3):
        writer.trial(ids, exercise, PASSED)
    writer.record.save_note("note \x1b[2J[red]", ids[0])
    for args in (("compare",), ("decide",), ("trials",), ("trials", "--open", "1")):
        done = run_cli(args[0], tmp_path / "record.db", *args[1:])
        assert "\x1b" not in done.out and "\u202e" not in done.out, args
        assert "\\x1b[31mred[bold]" in done.out, args


def test_dropping_faults_leaves_everything_else(write):
    writer = write()
    ids = writer.candidate("m@q8_0")
    writer.trial(ids, 0, PASSED)
    writer.trial(ids, 1, FAULT)
    assert writer.record.finished(ids[0]) == {("e0", 1, None), ("e1", 1, None)}
    assert writer.record.drop_faults(["server-fault"]) == 1
    assert writer.record.finished(ids[0]) == {("e0", 1, None)}
    assert list(trials_frame(writer.record)["outcome"]) == ["passed"]


def test_no_worse_than_the_reference_is_judged_on_the_same_trials(write, tmp_path):
    text = criterion("pass_rate", no_worse_than="reference", margin=0.1)
    writer = write(exercises=80, criteria=text)
    lost = {"m@f16": 0, "m@q8_0": 1, "m@q4_k_m": 6, "m@q2_k": 40}
    for name, count in lost.items():
        ids = writer.candidate(name)
        for exercise in range(80):
            writer.trial(ids, exercise, WRONG if exercise < count else PASSED)
    writer.trial(writer.candidate("other@q8_0"), 0, PASSED)
    reference, shown, unsettled, worse, alone = verdicts(writer, tmp_path)
    status = [v.judgements[0].status for v in (reference, shown, unsettled, worse, alone)]
    assert status == [Status.MET, Status.MET, Status.UNDECIDED, Status.NOT_MET, Status.UNDECIDED]
    assert reference.judgements[0].found == "is the reference level"
    assert shown.judgements[0].found.value == pytest.approx(-1 / 80) and shown.judgements[0].found.low > -0.1
    assert "exercises would settle it" in unsettled.judgements[0].reason
    assert "no reference level" in alone.judgements[0].reason
    against = {row.candidate: row.against for row in compare(writer.record).rows}
    assert (against["m@q4_k_m"].won, len(against["m@q4_k_m"].lost)) == ((), 6) and against["m@f16"] is None
    # three levels were looked at together: the smallest p is taken three times
    assert against["m@q2_k"].p_adjusted == pytest.approx(3 * against["m@q2_k"].p)


def test_a_fault_on_either_side_of_a_pair_leaves_it_out_and_half_a_campaign_undecided(write, tmp_path):
    writer = write(exercises=30, criteria=criterion("pass_rate", no_worse_than="reference", margin=0.4))
    for name in ("m@f16", "m@q8_0"):
        ids = writer.candidate(name)
        for exercise in range(30):
            writer.trial(ids, exercise, FAULT if (exercise, name) in {(0, "m@f16"), (1, "m@q8_0")} else PASSED)
    judged = verdicts(writer, tmp_path)[1].judgements[0]
    assert compare(writer.record).rows[1].against.pairs.pairs == 28
    assert judged.status is Status.UNDECIDED and "28 of 30 trials are paired" in judged.reason


def test_the_frontier_and_the_recommended_candidate(write, tmp_path):
    writer = write(exercises=20, criteria=criterion("pass_rate", at_least=0.6))
    # name: solved of 20, peak in MiB, seconds of each request
    plan = {"m@f16": (20, 900, 2.0), "m@q8_0": (20, 500, 1.0), "m@q4_k_m": (19, 300, 0.5), "m@q2_k": (2, 310, 0.6)}
    for name, (solved, peak, seconds) in plan.items():
        ids = writer.candidate(name)
        writer.memory(ids, "load", peak * 2**20, 5)
        for exercise in range(20):
            writer.trial(ids, exercise, PASSED if exercise < solved else WRONG, finished=seconds)
    table = compare(writer.record)
    # one exercise of twenty is not a difference beyond chance, half the memory is
    assert on_frontier(table.rows) == ("m@q4_k_m",)
    chosen = recommendations(table, verdicts(writer, tmp_path))
    assert chosen == {"m": ("m@q4_k_m", "the approved one with the least peak memory")}


def test_pass_rates_by_what_exercises_are(write):
    writer = write(exercises=4, samples=2)
    ids = writer.candidate("m@f16")
    for exercise in range(3):
        for sample in (1, 2):
            writer.trial(ids, exercise, PASSED if exercise else WRONG, sample=sample)
    writer.trial(ids, 3, FAULT)
    (kind,) = pass_rates_by(writer.record, "kind")
    assert (kind.group, kind.trials, kind.solved, kind.few, kind.candidate) == ("write", 6, 4, False, "m@f16")
    by_hand = pass_ratio([0, 2, 2], [2, 2, 2])
    assert (kind.pass_rate.low, kind.pass_rate.high) == (by_hand.low, by_hand.high)
    assert [group.group for group in pass_rates_by(writer.record, "topic")] == ["tides"]
    assert [group.group for group in pass_rates_by(writer.record, "difficulty")] == ["1"]
