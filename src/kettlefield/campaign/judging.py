"""A judge's sitting: every reply marked blind, pairs in both orders, all of it several times."""

import asyncio
import hashlib
import secrets
from collections.abc import Callable, Sequence
from itertools import combinations

import msgspec

from kettlefield.campaign.prompts import render_text
from kettlefield.campaign.serving import speaking
from kettlefield.campaign.setup import check_same_plan
from kettlefield.campaign.trial_runner import sampling_of
from kettlefield.core.errors import InputError
from kettlefield.core.plaintext import listed, shorten
from kettlefield.marking.blind_replies import Item, items_of
from kettlefield.marking.judge_prompt import judge_prompt, read_choice, read_mark
from kettlefield.measure.settings import MemoryTable, SpeedTable
from kettlefield.plan.candidates import Candidate
from kettlefield.plan.plan import Plan
from kettlefield.plan.tables import GradingTable, Judge
from kettlefield.record.entries import JudgementEntry
from kettlefield.record.store import Record
from kettlefield.server.exchange import ChatClient

FAULT_CHARS = 300


class Question(msgspec.Struct, frozen=True, kw_only=True):
    """One question to the judge: one reply to be marked, or two to choose between."""

    first: Item
    second: Item | None
    round: int

    @property
    def key(self) -> tuple[str, str | None, int]:
        """What tells it from all others."""
        return self.first.digest, self.second.digest if self.second is not None else None, self.round


def questions_of(items: Sequence[Item], judge: Judge) -> list[Question]:
    """All that a judge is asked, in the order of the rounds.

    Half of the pairs are, where there are as many, of replies that the checks rate equal: only these tell a
    lean to length from a sense of merit.
    """
    pairs = _pairs(items, judge.table.pairs)
    questions: list[Question] = []
    for number in range(1, judge.table.rounds + 1):
        questions += [Question(first=item, second=None, round=number) for item in items]
        for one, other in pairs:
            questions.append(Question(first=one, second=other, round=number))
            questions.append(Question(first=other, second=one, round=number))
    return questions


def _pairs(items: Sequence[Item], most: int) -> list[tuple[Item, Item]]:
    by_exercise: dict[str, list[Item]] = {}
    for item in items:
        by_exercise.setdefault(item.exercise, []).append(item)
    every = [pair for group in by_exercise.values() for pair in combinations(group, 2)]
    # which pairs are taken hangs on nothing but what they are
    every.sort(key=lambda pair: hashlib.sha256(f"{pair[0].digest}{pair[1].digest}".encode()).digest())
    same = [pair for pair in every if pair[0].score == pair[1].score]
    apart = [pair for pair in every if pair[0].score != pair[1].score]
    half = most // 2
    taken = same[: max(half, most - len(apart))]
    return [*taken, *apart[: most - len(taken)]]


async def judge(plan: Plan, record: Record, on_done: Callable[[int, int, str], None]) -> int:
    """Put to the plan's judge what the record does not hold its answer of; how many questions that was.

    Parameters
    ----------
    plan : Plan
        With a judge; the one that the record's campaign was begun with.
    record : Record
        An open record.
    on_done : callable
        Told after each question: how many are done, of how many, and the fault or "".

    Raises
    ------
    InputError
        The plan has no judge, is not the record's, or nothing was answered yet.
    ServerError
        The server would not start or was not ready in time.
    """
    judge = plan.judge
    campaign = record.campaign()
    if judge is None:
        raise InputError("names no judge", str(plan.path), "Add an [judge] table before the campaign begins.")
    if campaign is None:
        raise InputError("holds no campaign yet", str(record.place), "Run `kettlefield qualify` on the plan first.")
    check_same_plan(campaign, plan, str(record.place))
    items = items_of(record, judge.table.kinds)
    if not items:
        kinds = listed(judge.table.kinds, last="or")
        raise InputError(f"holds no answer of kind {kinds}", str(record.place), "Run `kettlefield qualify` first.")
    done = record.judged(judge.name)
    waiting = [question for question in questions_of(items, judge) if question.key not in done]
    if not waiting:
        return 0
    total, left = len(waiting), list(reversed(waiting))
    candidate = _as_candidate(judge)
    async with speaking(plan, candidate) as client:

        async def ask_in_turn() -> None:
            while left:
                entry = await _ask(client, candidate, judge, left.pop())
                record.save_judgement(entry)
                on_done(total - len(left), total, entry.fault)

        async with asyncio.TaskGroup() as group:
            for _ in range(max(1, judge.table.server.concurrency)):
                group.create_task(ask_in_turn())
    return total


async def _ask(client: ChatClient, candidate: Candidate, judge: Judge, question: Question) -> JudgementEntry:
    items = [question.first] + ([question.second] if question.second is not None else [])
    text = judge_prompt(
        question.first.prompt, question.first.guidance, [_shown(item) for item in items], secrets.token_hex(6)
    )
    ask = render_text(text, candidate.prompting)
    # each round draws again; within one, every question has a seed of its own
    place = int.from_bytes(hashlib.sha256(repr(question.key).encode()).digest()[:4], "big") % 1_000_000
    exchange = await client.ask(
        msgspec.structs.replace(ask, sampling=sampling_of(candidate, candidate.sampling.seed + place))
    )
    mark = read_mark(exchange.text) if question.second is None else None
    choice = read_choice(exchange.text) if question.second is not None else None
    fault = exchange.fault or ""
    if not fault and mark is None and choice is None:
        fault = f"its reply ends in no {'mark' if question.second is None else 'choice'}"
    return JudgementEntry(
        judge=judge.name,
        exercise_id=question.first.exercise,
        first_item=question.first.digest,
        second_item=question.second.digest if question.second is not None else None,
        round=question.round,
        value=mark if not fault else None,
        choice=choice if not fault else None,
        reply=exchange.text,
        fault=shorten(fault, FAULT_CHARS),
    )


def _shown(item: Item) -> str:
    if len(item.files) == 1:
        return next(iter(item.files.values()))
    return "\n".join(f"--- {name}\n{text}" for name, text in item.files.items())


def _as_candidate(judge: Judge) -> Candidate:
    """The judge as the server client knows candidates; it is none, and nothing of it is measured."""
    table = judge.table
    return Candidate(
        model=table.model,
        level=table.level,
        weights=judge.weights,
        reference=False,
        baseline=True,
        settings_name=None,
        server=table.server,
        prompting=table.prompting,
        sampling=table.sampling,
        speed=SpeedTable(),
        memory=MemoryTable(),
        grading=GradingTable(),
    )
