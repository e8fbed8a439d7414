"""The answers part of one candidate: every exercise asked, graded and put into the record."""

import asyncio
import dataclasses
from collections.abc import Callable
from concurrent.futures import Executor

from kettlefield.campaign.plan import Candidate
from kettlefield.campaign.prompts import follow_up, is_bare, next_turn, render_exercise, reply_text
from kettlefield.campaign.repair import REPAIRABLE, repair_words
from kettlefield.core.outcome import Outcome
from kettlefield.core.timeline import read_figures
from kettlefield.grading.grader import Grade, grade_reply
from kettlefield.record.entries import AttemptEntry, CheckEntry, ExchangeEntry, TrialEntry
from kettlefield.sandbox.isolation import Isolation
from kettlefield.server.exchange import Ask, ChatClient, Exchange
from kettlefield.suite.format import Exercise

MOST_WAITS = 30  # for a server that says it is too busy, before that counts as a fault
LONGEST_WAIT_S = 60.0
GRADING_BACKLOG = 4  # trials in grading beside those being asked: a crash must not lose many


@dataclasses.dataclass(frozen=True, slots=True, kw_only=True)
class Desk:
    """What the answers part works with."""

    candidate: Candidate
    candidate_id: int
    session_id: int
    client: ChatClient
    server_is_alive: Callable[[], bool]
    isolation: Isolation
    graders: Executor
    save: Callable[[TrialEntry], None]


def sampling_of(candidate: Candidate, seed: int) -> dict[str, object]:
    """The sampling settings as they go over the wire."""
    table = candidate.sampling
    sent: dict[str, object] = {
        "temperature": table.temperature,
        "top_p": table.top_p,
        "max_tokens": table.max_tokens,
        "seed": seed,
    }
    for name in ("top_k", "min_p", "repeat_penalty"):
        value = getattr(table, name)
        if value is not None:  # not sent unless the plan sets it: the server's own default holds
            sent[name] = value
    if table.stop:
        sent["stop"] = list(table.stop)
    elif candidate.prompting.style != "chat":
        sent["stop"] = ["\n```"]  # the end of the block that the prompt opened
    return sent


def exchange_entry(exchange: Exchange, purpose: str, candidate_id: int, session_id: int) -> ExchangeEntry:
    """An exchange with its figures, as the record keeps it."""
    return ExchangeEntry(
        candidate_id=candidate_id,
        session_id=session_id,
        purpose=purpose,
        asked_at=exchange.asked_at,
        in_flight=exchange.in_flight,
        messages=exchange.ask.messages,
        sampling=exchange.ask.sampling,
        reply=exchange.text,
        thinking=exchange.thinking,
        finish_reason=exchange.finish_reason,
        fault=exchange.fault,
        figures=read_figures(exchange.trace),
        stamps_s=exchange.trace.stamps_s,
        stamp_marks=exchange.trace.thinking,
    )


async def run_answers(desk: Desk, pending: list[tuple[Exercise, int]]) -> None:
    """Run every pending (exercise, sample): at most ``in_flight`` are asked at once, grading goes on beside."""
    waiting = list(reversed(pending))
    asking = asyncio.Semaphore(desk.candidate.grading.in_flight)

    async def run_in_turn() -> None:
        while waiting:
            exercise, sample = waiting.pop()
            desk.save(await _run_trial(desk, exercise, sample, asking))

    async with asyncio.TaskGroup() as group:
        for _ in range(min(len(pending), desk.candidate.grading.in_flight + GRADING_BACKLOG)):
            group.create_task(run_in_turn())


def _seed(desk: Desk, sample: int) -> int:
    return desk.candidate.sampling.seed + sample - 1


async def _run_trial(desk: Desk, exercise: Exercise, sample: int, asking: asyncio.Semaphore) -> TrialEntry:
    """One trial: its scripted turns one after the other, each with repair turns as long as it fails.

    A turn that cannot be mended ends the trial: the next would build on code that is wrong.
    """
    seed = _seed(desk, sample)
    prompting = desk.candidate.prompting
    ask = dataclasses.replace(render_exercise(exercise, prompting), sampling=sampling_of(desk.candidate, seed))
    attempts: list[AttemptEntry] = []
    earlier: dict[str, str] | None = None
    for turn in range(1, len(exercise.turns) + 1):
        graded = await _run_turn(desk, _Asked(exercise=exercise, turn=turn, earlier=earlier, ask=ask), asking, attempts)
        if graded is None or graded.grade.outcome is not Outcome.PASSED or turn == len(exercise.turns):
            break
        earlier = graded.grade.files
        ask = follow_up(graded.ask, graded.reply, next_turn(exercise, turn + 1, prompting), exercise, prompting)
    return TrialEntry(
        candidate_id=desk.candidate_id,
        exercise_id=exercise.id,
        sample=sample,
        seed=seed,
        attempts=tuple(attempts),
    )


@dataclasses.dataclass(frozen=True, slots=True, kw_only=True)
class _Asked:
    """One turn as it is put to the model."""

    exercise: Exercise
    turn: int
    earlier: dict[str, str] | None  # the model's own files of the turn before
    ask: Ask


@dataclasses.dataclass(frozen=True, slots=True, kw_only=True)
class _Graded:
    """The last attempt of a turn."""

    ask: Ask
    reply: str
    grade: Grade


async def _run_turn(
    desk: Desk, asked: _Asked, asking: asyncio.Semaphore, attempts: list[AttemptEntry]
) -> _Graded | None:
    """An attempt, and repair turns in the same conversation; None after a fault of the server."""
    prompting, ask = desk.candidate.prompting, asked.ask
    repairs = 0 if is_bare(asked.exercise, prompting) else desk.candidate.grading.repair_turns
    while True:
        async with asking:
            exchange = await _ask(desk, ask)
        if exchange is None or exchange.fault is not None:
            attempts.append(_faulty(desk, exchange, asked.turn))
            return None
        grade = await _grade(desk, asked, exchange)
        attempts.append(_attempt(desk, exchange, grade, asked.turn))
        if repairs == 0 or grade.outcome not in REPAIRABLE:
            return _Graded(ask=ask, reply=exchange.text, grade=grade)
        repairs -= 1
        ask = follow_up(ask, exchange.text, repair_words(grade), asked.exercise, prompting)


async def _ask(desk: Desk, ask: Ask) -> Exchange | None:
    """The reply, asked again after a fault as often as the plan says; None when the server is gone.

    A server that is too busy and says when to ask again is asked again then; that is no fault.
    """
    exchange, tries, waits = None, 1 + desk.candidate.grading.fault_retries, 0
    while tries > 0 and desk.server_is_alive():
        exchange = await desk.client.ask(ask)
        if exchange.fault is None:
            break
        if exchange.retry_after_s is not None and waits < MOST_WAITS:
            waits += 1
            await asyncio.sleep(min(exchange.retry_after_s, LONGEST_WAIT_S))
        else:
            tries -= 1
    return exchange


async def _grade(desk: Desk, asked: _Asked, exchange: Exchange) -> Grade:
    loop = asyncio.get_running_loop()
    exercise, prompting = asked.exercise, desk.candidate.prompting
    text = reply_text(exchange.text, exercise, prompting)
    for retry in range(1 + desk.candidate.grading.fault_retries):
        grade = await loop.run_in_executor(
            desk.graders,
            lambda: grade_reply(
                exercise,
                text,
                cap_hit=exchange.cap_hit,
                isolation=desk.isolation,
                turn=asked.turn,
                earlier=asked.earlier,
                continued=is_bare(exercise, prompting),
            ),
        )
        if grade.outcome is not Outcome.RIG_FAULT or retry == desk.candidate.grading.fault_retries:
            return grade
    raise AssertionError("unreachable: the last turn returns")


def _faulty(desk: Desk, exchange: Exchange | None, turn: int) -> AttemptEntry:
    entry = None
    if exchange is not None:
        entry = exchange_entry(exchange, "answer", desk.candidate_id, desk.session_id)
    return AttemptEntry(
        turn=turn,
        exchange=entry,
        outcome=Outcome.SERVER_FAULT,
        score=0.0,
        files={},
        language=None,
        how="not looked for",
        remarks=(),
        fault=(exchange.fault if exchange is not None else None) or "the server was gone before it could be asked",
        checks=(),
    )


def _attempt(desk: Desk, exchange: Exchange, grade: Grade, turn: int) -> AttemptEntry:
    return AttemptEntry(
        turn=turn,
        exchange=exchange_entry(exchange, "answer", desk.candidate_id, desk.session_id),
        outcome=grade.outcome,
        score=grade.score,
        files=grade.files,
        language=grade.answer.language,
        how=grade.answer.how,
        remarks=grade.answer.remarks,
        fault=grade.fault,
        checks=tuple(
            CheckEntry(
                name=check.name,
                kind=check.kind,
                required=check.required,
                weight=check.weight,
                passed=check.passed,
                end=check.end.value,
                cases_passed=check.cases_passed,
                cases_total=check.cases_total,
                detail=check.detail,
                wall_s=check.wall_s,
            )
            for check in grade.checks
        ),
        pictures=tuple((picture.width, picture.png) for picture in grade.pictures),
    )
