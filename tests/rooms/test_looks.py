"""Looks at a record: what each sees, what they decide, what stays open, and that they follow from the trials."""

import json

import msgspec
import pytest
from records import FAULT, PASSED, WRONG, Writer, editing

from kettlefield.campaign.deciding import chance_at_next, score_of
from kettlefield.core.acceptance import Status
from kettlefield.core.statistics.intervals import pass_ratio
from kettlefield.core.statistics.sequential import confidence_at
from kettlefield.decision.looks import fractions_at, looks_that_differ, take_look
from kettlefield.decision.verdict import reach_verdicts
from kettlefield.plan.criteria import terms_of_text
from kettlefield.record.entries import MemoryEntry, ProcedureEntry
from kettlefield.results.comparison import compare
from kettlefield.results.frames import campaign_facts
from kettlefield.results.look_rows import blocks_asked, blocks_of, looks_of, newest_rows
from kettlefield.views.looks_view import looks_view

pytestmark = pytest.mark.fast
RATE = '[[criterion]]\nmeasure = "pass_rate"\nat_least = 0.5\n'
NO_WORSE = '[[criterion]]\nmeasure = "pass_rate"\nno_worse_than = "reference"\nmargin = 0.3\n'
COUNT = '[[criterion]]\nmeasure = "outcome_count"\noutcomes = ["wrong-answer"]\nat_most = 9\n'
TTFT = '[[criterion]]\nmeasure = "ttft_s.p50"\nat_most = "300 ms"\n'


def written(tmp_path, passed, *, criteria=RATE, exercises=40, **options):
    """A record of 4 blocks; for each candidate how each of its first exercises ended."""
    writer = Writer(tmp_path / "r.db", exercises=exercises, blocks=4, criteria=criteria, **options)
    for name, ends in passed.items():
        ids = writer.candidate(name)
        for number, end in enumerate(ends):
            writer.trial(ids, number, end)
    terms = terms_of_text(campaign_facts(writer.record)["plan_text"], writer.path)
    return writer, terms


def save(writer, terms, candidate, block):
    """Take a look and keep it, as a campaign does."""
    seen = take_look(writer.record, terms.criteria, terms.weights, candidate, block)
    candidate_id = writer.record.candidate_id(candidate)
    entries = [one.entry(candidate_id, block) for one in seen]
    writer.record.save_looks(entries)
    return seen


def verdict_of(writer, terms, candidate):
    verdicts = reach_verdicts(writer.record, compare(writer.record), terms.criteria, terms.weights)
    return next(one for one in verdicts if one.candidate == candidate)


def test_a_look_sees_its_blocks_alone_at_its_own_confidence(tmp_path):
    writer, terms = written(tmp_path, {"m@q4": [PASSED] * 10 + [WRONG] * 10})
    (seen,) = take_look(writer.record, terms.criteria, terms.weights, "m@q4", 1)
    at = confidence_at([0.25], 0.95)
    assert (seen.exercises, seen.planned, seen.confidence) == (10, 40, at)
    assert seen.judgement.found == pass_ratio([1] * 10, [1] * 10, confidence=2 * at - 1, corrected=True)
    assert seen.judgement.status is Status.MET
    (second,) = take_look(writer.record, terms.criteria, terms.weights, "m@q4", 2)
    assert second.confidence == confidence_at([0.25, 0.5], 0.95) < at and second.judgement.found.n == 20
    assert second.judgement.status is Status.UNDECIDED
    blocks = blocks_of(writer.record)
    assert (blocks.count, blocks_asked(writer.record), len(blocks.upto(2))) == (4, {"m@q4": 2}, 20)
    assert fractions_at(writer.record, blocks, terms.criteria[0], 3) == ((0.25, 0.5, 0.75), 30, 40)


def test_whatever_bears_on_a_candidate_is_noticed_and_what_bears_on_another_is_not(tmp_path):
    writer, terms = written(tmp_path, {"m@q4": [PASSED] * 19 + [FAULT], "m@q2": [WRONG] * 10})
    ids = writer.record.candidate_id("m@q4"), 1
    memory = MemoryEntry(
        session_id=1, phase="answers", samples=1, host_peak_bytes=1, accelerator_peak_bytes=2, peak_bytes=3,
        end_bytes=3, mapped_peak_bytes=0, energy_j=None, energy_from=None, series=b"",
    )  # fmt: skip
    phases = []

    def drop_and_ask_again():
        assert writer.record.drop_faults([FAULT.value], None) == 1
        writer.trial(ids, 19, PASSED)  # its row may have the id of the one that went

    writes = (
        drop_and_ask_again,
        lambda: writer.trial(ids, 20, PASSED),
        lambda: writer.timed(ids, "latency", {}),
        lambda: writer.ended(ids, "latency"),
        lambda: phases.append(writer.record.save_memory(memory)),
        lambda: writer.record.save_memory(msgspec.structs.replace(memory, peak_bytes=9), phases[0]),
        lambda: save(writer, terms, "m@q4", 1),
    )
    other = writer.record.candidate_id("m@q2")
    of_other = newest_rows(writer.record, other)
    for write in writes:
        before = newest_rows(writer.record, ids[0])
        assert newest_rows(writer.record, ids[0]) == before
        write()
        assert newest_rows(writer.record, ids[0]) != before
        assert newest_rows(writer.record, other) == of_other


def test_what_a_look_decided_stays_decided_and_the_rest_is_said_to_be_open(tmp_path):
    passed = {"m@f16": [PASSED] * 20, "m@q4": [PASSED] * 10 + [PASSED, WRONG] * 5, "m@q2": [WRONG] * 10}
    writer, terms = written(tmp_path, passed, criteria=RATE + NO_WORSE + COUNT)
    for candidate, blocks in (("m@f16", 2), ("m@q4", 2), ("m@q2", 1)):
        for block in range(1, blocks + 1):
            save(writer, terms, candidate, block)
    rate, no_worse, count = verdict_of(writer, terms, "m@q4").judgements
    assert (rate.status, rate.reason) == (Status.MET, "decided after 10 of 40 exercises")
    assert rate.found.value == 1.0 and rate.found.n == 10  # as it was seen then
    assert no_worse.status is Status.UNDECIDED and "looked at after 20 of 40 exercises" in no_worse.reason
    assert no_worse.reason.endswith("run qualify to go on")
    assert count.status is Status.UNDECIDED and count.reason.startswith("can only be judged on the whole")
    rejected = verdict_of(writer, terms, "m@q2")
    assert rejected.verdict == "rejected" and rejected.judgements[0].status is Status.NOT_MET
    assert "already after 10 of 40" in rejected.judgements[2].reason  # ten are too many, however the rest would end
    document = looks_view(writer.record).document
    assert (document["blocks"], document["exercises"], len(document["looks"])) == (4, 40, 2 + 4 + 2)
    stops = {one["candidate"]: one for one in document["candidates"]}
    assert stops["m@q2"]["exercises_asked"] == 10 and (1, "not met", 10) in stops["m@q2"]["decided"]
    # intervals of a stopped campaign hold at all looks
    row = next(row for row in compare(writer.record).rows if row.candidate == "m@q4")
    assert row.looks == (0.25, 0.5) and row.pass_rate.low < pass_ratio([1] * 15 + [0] * 5, [1] * 20).low
    assert row.difference().low < row.difference(confidence=0.5).low < row.difference().value


def test_looks_follow_from_the_trials_or_are_named(tmp_path):
    writer, terms = written(tmp_path, {"m@f16": [PASSED] * 20, "m@q4": [PASSED] * 20}, criteria=RATE + NO_WORSE)
    for candidate in ("m@f16", "m@q4"):
        for block in (1, 2):
            save(writer, terms, candidate, block)
    assert looks_that_differ(writer.record, terms.criteria, terms.weights) == []
    assert [look.block for look in looks_of(writer.record) if look.criterion == 2] == [1, 2]  # no look at itself
    with editing(writer.record) as connection:  # as somebody with another tool would
        connection.exec_driver_sql("UPDATE look SET status = 'not met' WHERE block = 2 AND criterion = 2")
    differ = looks_that_differ(writer.record, terms.criteria, terms.weights)
    assert differ == ["look 2 of m@q4 at criterion 2 does not follow from its trials"]


def test_a_fault_puts_the_look_off_and_says_what_to_do(tmp_path):
    writer, terms = written(tmp_path, {"m@q4": [FAULT] + [PASSED] * 39})
    assert all(not save(writer, terms, "m@q4", block) for block in (1, 2, 3, 4))
    (judged,) = verdict_of(writer, terms, "m@q4").judgements
    assert judged.status is Status.UNDECIDED and "--retry-faults" in judged.reason


def test_a_criterion_about_some_exercises_has_looks_of_its_own(tmp_path):
    kinds = ["repair"] * 10 + ["write"] * 30
    writer, terms = written(
        tmp_path,
        {"m@q4": [PASSED] * 20},
        criteria=RATE + RATE.replace("at_least", 'among = { kind = "repair" }\nat_least'),
        kinds=kinds,
    )
    first = save(writer, terms, "m@q4", 1)
    second = save(writer, terms, "m@q4", 2)
    assert [(one.number, one.exercises, one.planned) for one in first] == [(1, 10, 40), (2, 10, 10)]
    assert first[1].confidence == pytest.approx(0.95)  # all of them: nothing comes after
    assert [one.number for one in second] == [1]
    blocks = blocks_of(writer.record)
    assert fractions_at(writer.record, blocks, terms.criteria[1], 4) == ((1.0,), 10, 10)


def test_without_a_reference_level_the_reason_is_that(tmp_path):
    writer, terms = written(tmp_path, {"m@q4": [PASSED] * 40}, criteria=NO_WORSE)
    assert save(writer, terms, "m@q4", 4) == ()
    assert "there is no reference level" in verdict_of(writer, terms, "m@q4").judgements[0].reason


def test_timing_that_was_looked_at_is_judged_at_the_confidence_of_its_looks(tmp_path):
    writer, terms = written(tmp_path, {"m@q4": [PASSED] * 40}, criteria=TTFT)
    ids = writer.record.candidate_id("m@q4"), 1
    for number in range(6):
        first = 0.1 + 0.01 * number
        writer.record.save_exchange(writer.exchange(ids, stamps=(first, first + 0.5), purpose="latency"))
    assert verdict_of(writer, terms, "m@q4").judgements[0].status is Status.MET  # 6 values bound a median at 95 %
    facts = {"points": {}, "looks": [6], "most_requests": 24}
    end = ProcedureEntry(candidate_id=ids[0], session_id=1, name="latency", why_ended="decided", facts=facts)
    writer.record.save_procedure(end)
    # at a quarter of the requests the bound needs 99 % and more, which 6 values cannot give
    assert verdict_of(writer, terms, "m@q4").judgements[0].status is Status.UNDECIDED


def test_the_chance_of_a_decision_grows_with_what_was_found(tmp_path):
    writer, terms = written(tmp_path, {"m@q4": [PASSED] * 14 + [WRONG] * 6, "m@q2": [PASSED, WRONG] * 10})
    for candidate in ("m@q4", "m@q2"):
        save(writer, terms, candidate, 1)
        save(writer, terms, candidate, 2)
    criterion = terms.criteria[0]
    last = {look.candidate: look for look in looks_of(writer.record)}
    scores = {name: score_of(criterion, look.figure, look.confidence) for name, look in last.items()}
    assert scores["m@q4"] > 1 and scores["m@q2"] == pytest.approx(0.0, abs=0.01)
    fractions = [0.25, 0.5, 0.75]
    near, even = (chance_at_next(criterion, last[name], fractions) for name in ("m@q4", "m@q2"))
    assert 0 < even < near < 1
    assert 0 < chance_at_next(criterion, None, fractions[:1]) < 0.6
    assert json.dumps(looks_view(writer.record).document)
