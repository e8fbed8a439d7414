"""The judge: what it is asked, that it goes on where it stopped, and that its biases are found whatever they are."""

import asyncio
from contextlib import asynccontextmanager
from pathlib import Path

import pytest
from records import PASSED, WRONG, Writer

from kettlefield.campaign import judging
from kettlefield.core.errors import InputError
from kettlefield.demo.simulated_replies import Biases, SimulatedJudge, read_biases
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.marking.blind_replies import items_of, kinds_of
from kettlefield.marking.judge_prompt import CHOICE_WANTED, judge_prompt, read_choice, read_mark
from kettlefield.marking.judge_trust import trusts, why_not_used
from kettlefield.marking.marks import Mark, agreements, mean_marks
from kettlefield.plan.tables import Judge, JudgeTable, ServerTable
from kettlefield.record.entries import JudgementEntry
from kettlefield.record.signed_rows import results_digest
from kettlefield.suite.loader import find_suite, load_suite

RIGHT, LONG, SHORT = "the tide turns twice a day", "no: " + "it turns at noon and at night " * 3, "no"


@pytest.fixture
def record(tmp_path):
    """Three answers to each of thirty explanations: one right, two wrong, one of them long."""
    writer = Writer(tmp_path / "record.db", exercises=30, kinds=["explain"] * 30)
    for name, text in (("dune@f16", RIGHT), ("dune@q4_k_m", LONG), ("dune@q2_k", SHORT)):
        ids = writer.candidate(name)
        for number in range(30):
            writer.trial(ids, number, PASSED if text is RIGHT else WRONG, code=f"{text} {number}")
    return writer


def table(**keys):
    settings = {"rounds": 2, "pairs": 60, **keys}
    made = JudgeTable(model="sedge", level="q8_0", server=ServerTable(url="http://x"), **settings)
    return Judge(name="sedge@q8_0", table=made, weights=None)


def test_pairs_come_in_both_orders_every_round_and_half_of_them_are_alike(record):
    items = items_of(record.record, ("explain",))
    questions = judging.questions_of(items, table())
    singles = [q for q in questions if q.second is None]
    pairs = [q for q in questions if q.second is not None]
    assert len(singles) == 2 * 90 and len(pairs) == 2 * 2 * 60
    assert len({q.key for q in questions}) == len(questions)
    assert {(q.second.digest, q.first.digest, q.round) for q in pairs} == {
        (q.first.digest, q.second.digest, q.round) for q in pairs
    }
    same = [q for q in pairs if q.first.score == q.second.score]
    assert len(same) == len(pairs) / 2 and all(q.first.exercise == q.second.exercise for q in pairs)
    assert judging.questions_of(items, table(pairs=0)) == singles
    # where few are same, others take their place
    few = [item for item in items if item.score == 1 or item.exercise == "e1"]
    assert sum(q.second is not None for q in judging.questions_of(few, table(pairs=10))) == 2 * 2 * 3


def sit(record, items, biases):
    """Answers of the simulated judge to every question, written as the campaign writes them."""
    judge = SimulatedJudge(biases, ())
    judge._own = {" ".join(f"{RIGHT} {number}".split()) for number in range(30)}
    for number, question in enumerate(judging.questions_of(items, table())):
        replies = [next(iter(i.files.values())) for i in (question.first, question.second) if i is not None]
        said = judge.reply(judge_prompt("t", "g", replies, "0123456789ab"), number)
        single = question.second is None
        record.save_judgement(
            JudgementEntry(
                judge="sedge@q8_0", exercise_id=question.first.exercise, first_item=question.first.digest,
                second_item=None if single else question.second.digest, round=question.round,
                value=read_mark(said) if single else None, choice=None if single else read_choice(said), reply=said, fault="",
            )
        )  # fmt: skip


@pytest.mark.parametrize(
    ("biases", "place", "length", "follows"),
    [
        (Biases(), 0.0, None, 1.0),
        (Biases(place=1.0), 1.0, 0.5, 0.5),
        (Biases(length=1.0), 0.0, 1.0, 0.5),
        # of alike ones 0.6 go to the first and 0.4 * 0.5 to the longer
        (Biases(place=0.6, length=0.5), 0.6, (0.3 + 0.2) / (0.6 + 0.2), None),
    ],
)
def test_set_leans_are_found(record, biases, place, length, follows):
    items = items_of(record.record, ("explain",))
    sit(record.record, items, biases)
    (found,) = trusts(record.record, items, {})
    assert found.place.low - 0.01 <= place <= found.place.high + 0.01, found.place
    assert (found.length is None) == (length is None)
    if length is not None:
        assert found.length.low - 0.01 <= length <= found.length.high + 0.01, found.length
    if follows is not None:
        # one that takes the longer is right as often as the right one is the longer
        low, high = (found.follows.low - 0.01, found.follows.high + 0.01)
        assert low <= follows <= high, found.follows
    assert found.parting.value == 1 and found.same_again.value == 1 and found.asked == 2 * 90 + 240
    assert found.both_orders.value == pytest.approx(1.0 if biases.place == 0 else found.both_orders.value)


def test_its_marks_are_used_only_when_people_agree_clearly(record):
    items = items_of(record.record, ("explain",))
    sit(record.record, items, Biases(noise=0.3))
    right = {item.digest: 4.0 if item.passed else 1.0 for item in items}
    (alone,), (agreeing,), (against,) = (trusts(record.record, items, human) for human in (
        {}, right, {item: 4 - mark for item, mark in right.items()}
    ))  # fmt: skip
    assert "unknown" in why_not_used(alone, 0.6)
    assert why_not_used(agreeing, 0.6) == "" and agreeing.with_people.both == 90
    assert "wanted 0.60" in why_not_used(against, 0.6) and against.with_people.kappa.value < 0
    few = dict(list(right.items())[:3])
    (little,) = trusts(record.record, items, few)
    assert little.with_people.both == 3 and why_not_used(little, 0.6)


class Client:
    """Answers what it is told, and counts."""

    def __init__(self, *said):
        self.said, self.asked = list(said), []

    async def ask(self, ask):
        from kettlefield.core.timing.timeline import Trace
        from kettlefield.server.exchange import Exchange

        self.asked.append(ask)
        text = self.said[(len(self.asked) - 1) % len(self.said)]
        trace = Trace(stamps_s=(0.1,), thinking=(False,), finished_s=0.2, completion_tokens=3)
        return Exchange(
            ask=ask, asked_at=0.0, sent_s=0.0, concurrency=1, text=text, thinking="", finish_reason="stop",
            fault=None, trace=trace,
        )  # fmt: skip


def test_a_sitting_is_blind_goes_on_and_keeps_what_could_not_be_read(record, monkeypatch, tmp_path):
    client = Client("Fine.\nMARK: 3", "I could not say.", "BETTER: TWO")

    @asynccontextmanager
    async def speaking(plan, candidate):
        yield client

    monkeypatch.setattr(judging, "speaking", speaking)
    monkeypatch.setattr(judging, "check_same_plan", lambda *_: None)

    class Plan:
        judge, path = table(rounds=1, pairs=2), Path("plan.toml")

    done = []
    asked = asyncio.run(judging.judge(Plan, record.record, lambda *facts: done.append(facts)))
    assert asked == 90 + 4 == len(client.asked) == len(done) and done[-1][:2] == (94, 94)
    text = "\n".join(message["content"] for ask in client.asked for message in ask.messages)
    assert "dune" not in text and "q4_k_m" not in text and text.count(CHOICE_WANTED) == 4
    assert len({ask.sampling["seed"] for ask in client.asked}) > 80
    assert any("ends in no mark" in fault for _, _, fault in done) and any(not fault for _, _, fault in done)
    # what was asked is not asked again, whatever came of it
    assert asyncio.run(judging.judge(Plan, record.record, lambda *_: None)) == 0
    Plan.judge = None
    with pytest.raises(InputError, match="names no judge"):
        asyncio.run(judging.judge(Plan, record.record, lambda *_: None))
    Plan.judge = table(kinds=("page",))
    with pytest.raises(InputError, match="holds no answer of kind page"):
        asyncio.run(judging.judge(Plan, record.record, lambda *_: None))


def test_the_simulated_judge_knows_what_is_right_in_one_file_or_several():
    suite = load_suite(CHECKS, find_suite("berthdesk", Path()))
    judge = SimulatedJudge(Biases(), suite.exercises)
    pages = {e.id: e for e in suite.exercises if e.spec.kind == "page"}
    own = "\n".join(f"--- {name}\n{text}" for name, text in pages["found-ledger"].answer.items())
    bad = next(iter(pages["crew-week"].decoys["colour-lost"].values()))
    asked = [judge_prompt("t", "g", [reply], "0123456789ab") for reply in (own, bad)]
    assert [read_mark(judge.reply(text, 1)) for text in asked] == [4, 1]
    assert judge.is_asked(asked[0]) and not judge.is_asked("Write a page.")
    assert read_biases("place=0.5,noise=1") == Biases(place=0.5, noise=1.0)
    with pytest.raises(ValueError, match="chances"):
        read_biases("place=2")


def test_marks_mean_over_markers_and_agree_pair_by_pair():
    marks = {
        ("I", "a", 1): Mark(value=4, note=""), ("I", "a", 2): Mark(value=2, note=""), ("I", "b", 1): Mark(value=0, note=""),
        ("T", "a", 1): Mark(value=1, note=""), ("T", "b", 1): Mark(value=0, note=""),
    }  # fmt: skip
    assert mean_marks(marks) == {"a": 2.0, "b": 0.0}
    again, never, both = agreements(marks)
    assert (again.both, again.same, never.both, both.both, both.same) == (1, 0, 0, 2, 1)
    assert (both.who, both.with_whom) == ("I", "T") and never.kappa is None


def test_kinds_are_named_and_empty_tables_leave_older_signatures_standing(record):
    assert (
        kinds_of(None) == ("explain", "page")
        and len(kinds_of("all")) == 16
        and kinds_of("write, data") == ("write", "data")
    )
    with pytest.raises(InputError, match="explian"):
        kinds_of("explian")
    before = results_digest(record.record, None)
    sit(record.record, items_of(record.record, ("explain",))[:1], Biases())
    assert results_digest(record.record, None) != before


def test_what_an_judge_was_asked_is_known_by_its_name_items_and_round(record):
    store = record.record
    item = items_of(store, ("explain",))[0]
    for number, name in ((1, "sedge@q8_0"), (2, "sedge@q8_0"), (1, "reed@f16")):
        store.save_judgement(
            JudgementEntry(
                judge=name, exercise_id=item.exercise, first_item=item.digest, second_item=None, round=number,
                value=number + 2, choice=None, reply="MARK", fault="",
            )
        )  # fmt: skip
    assert store.judged("sedge@q8_0") == {(item.digest, None, 1), (item.digest, None, 2)}
    assert store.judged("nobody") == set()
    first, second = trusts(store, [item], {item.digest: 4.0})
    assert (first.judge, first.marks, second.marks) == ("sedge@q8_0", {item.digest: 3.5}, {item.digest: 3.0})
    assert first.same_again.value == 0 and second.same_again is None and first.place is None
    assert first.with_people.both == 1 and "marked 1 of the same replies, 10 are needed" in why_not_used(first, 0.6)
