"""The answers part of one candidate: every exercise asked, graded and put into the record."""

import asyncio
import logging
from collections.abc import Callable, Mapping
from concurrent.futures import Executor
from typing import NamedTuple

import msgspec

from kettlefield.campaign.filling import Filling
from kettlefield.campaign.prompts import (
    REPAIRABLE,
    follow_up,
    is_bare,
    next_turn,
    render_exercise,
    repair_words,
    reply_text,
)
from kettlefield.campaign.workspace_trials import WORKSPACE, run_workspace
from kettlefield.core.errors import RigError
from kettlefield.core.outcome import Outcome
from kettlefield.grading.grader import Grade, Grader, broken_grade
from kettlefield.plan.candidates import Candidate
from kettlefield.record.entries import AttemptEntry, ExchangeEntry, TrialEntry
from kettlefield.server.exchange import Ask, ChatClient, Exchange
from kettlefield.suite.format import Exercise
from kettlefield.workspace.tool_calls import CallForm

logger = logging.getLogger(__name__)
SETTLES_WITHIN_S = 0.5  # a process that was killed is seen to be gone only a moment after its connections broke
MOST_WAITS = 30  # for a server that says it is too busy, before that counts as a fault
LONGEST_WAIT_S = 60.0
GRADING_BACKLOG = 4  # trials in grading beside those being asked: a crash must not lose many


class Due(NamedTuple):
    """A trial that is to be run."""

    exercise: Exercise
    sample: int
    fill: float | None = None  # share of the context that is filled before it; none: the exercise alone


class Desk(msgspec.Struct, frozen=True, kw_only=True):
    """What the answers part works with."""

    candidate: Candidate
    candidate_id: int
    session_id: int
    client: ChatClient
    server_is_alive: Callable[[], bool]
    grader: Grader
    threads: Executor  # that grade beside the asking
    save: Callable[[TrialEntry], None]
    neutral: Mapping[str, float]  # settings that do nothing, as this server takes them
    over_context: Mapping[str, str]  # exercise -> why its prompt does not fit
    call_form: CallForm = "functions"  # of the tools of exercises in a workspace
    filling: Filling | None = None  # what stands before the exercises of trials that have a fill
    task_tokens: Mapping[str, int] = msgspec.field(default_factory=dict)  # of exercises alone, as counted


class _ServerGoneError(Exception):
    """The server was gone before an exercise was put to it."""


def sampling_of(candidate: Candidate, seed: int, neutral: Mapping[str, float] | None = None) -> dict[str, object]:
    """The sampling settings as they go over the wire; ``neutral`` are those that the plan leaves open."""
    table = candidate.sampling
    sent: dict[str, object] = {
        **(neutral or {}),
        "temperature": table.temperature,
        "top_p": table.top_p,
        "max_tokens": table.max_tokens,
        "seed": seed,
    }
    for name in ("top_k", "min_p", "repeat_penalty"):
        value = getattr(table, name)
        if value is not None:
            sent[name] = value
    sent |= table.extra
    if table.stop:
        sent["stop"] = list(table.stop)
    elif candidate.prompting.style != "chat":
        sent["stop"] = ["\n```"]  # the end of the block that the prompt opened
    return sent


async def run_answers(desk: Desk, pending: list[Due]) -> None:
    """Run every pending trial: at most ``concurrency`` are asked at once, grading runs beside it.

    When the server dies, what was in flight ends in a fault; the rest is not asked.
    """
    waiting = list(reversed(pending))
    asking = asyncio.Semaphore(desk.candidate.grading.concurrent_trials)

    async def run_in_turn() -> None:
        while waiting and desk.server_is_alive():
            await _run_guarded(desk, waiting.pop(), asking)

    async with asyncio.TaskGroup() as group:
        for _ in range(min(len(pending), desk.candidate.grading.concurrent_trials + GRADING_BACKLOG)):
            group.create_task(run_in_turn())


async def _run_guarded(desk: Desk, due: Due, asking: asyncio.Semaphore) -> None:
    """One trial into the record; a fault of our own is that trial's outcome, and never ends the campaign."""
    try:
        entry = await _run_trial(desk, due, asking)
    except _ServerGoneError:
        return
    except Exception as err:
        entry = _broken_trial(desk, due, err)
    try:
        desk.save(entry)
    except RigError:
        raise  # the record itself cannot be written: nothing more can be kept
    except Exception as err:
        desk.save(_broken_trial(desk, due, err))


def _words_of_ours(desk: Desk, exercise: Exercise, sample: int, err: Exception) -> str:
    """A fault of our own in one line, with its traceback in the log."""
    trial = f"{desk.candidate.name}, {exercise.id}, sample {sample}"
    logger.error("a fault of our own in trial %s", trial, exc_info=err)
    return f"trial {trial}: a fault of Kettlefield's own ({type(err).__name__}: {err}); its traceback is in the log"


def _broken_trial(desk: Desk, due: Due, err: Exception) -> TrialEntry:
    attempt = _unasked(Outcome.RIG_FAULT, _words_of_ours(desk, due.exercise, due.sample, err))
    return _trial(desk, due, [attempt])


def _trial(desk: Desk, due: Due, attempts: list[AttemptEntry]) -> TrialEntry:
    return TrialEntry(
        candidate_id=desk.candidate_id,
        exercise_id=due.exercise.id,
        sample=due.sample,
        seed=_seed(desk, due.sample),
        attempts=tuple(attempts),
        context_fill=due.fill,
    )


def _seed(desk: Desk, sample: int) -> int:
    return desk.candidate.sampling.seed + sample - 1


async def _run_trial(desk: Desk, due: Due, asking: asyncio.Semaphore) -> TrialEntry:
    """One trial: its scripted turns one after the other, each with repair turns as long as it fails.

    A turn that cannot be repaired ends the trial: the next would build on code that is wrong.
    """
    exercise, sample = due.exercise, due.sample
    if exercise.id in desk.over_context:
        return _trial(desk, due, [_unasked(Outcome.OVER_CONTEXT, desk.over_context[exercise.id])])
    prompting = desk.candidate.prompting
    sampling = sampling_of(desk.candidate, _seed(desk, sample), desk.neutral)
    if exercise.workspace:
        return _trial(desk, due, [await _run_workspace(desk, due, sampling, asking)])
    ask = msgspec.structs.replace(render_exercise(exercise, prompting), sampling=sampling)
    if due.fill is not None and desk.filling is not None:
        ask = desk.filling.before(ask, due.fill, desk.task_tokens.get(exercise.id))
    attempts: list[AttemptEntry] = []
    earlier: dict[str, str] | None = None
    for turn in range(1, len(exercise.turns) + 1):
        asked = _Asked(exercise=exercise, sample=sample, fill=due.fill, turn=turn, earlier=earlier, ask=ask)
        graded = await _run_turn(desk, asked, asking, attempts)
        if graded is None or graded.grade.outcome is not Outcome.PASSED or turn == len(exercise.turns):
            break
        earlier = dict(graded.grade.answer.files)
        ask = follow_up(graded.ask, graded.reply, next_turn(exercise, turn + 1, prompting), exercise, prompting)
    return _trial(desk, due, attempts)


async def _run_workspace(desk: Desk, due: Due, sampling: dict[str, object], asking: asyncio.Semaphore) -> AttemptEntry:
    """A run in a workspace, whose turns are asked one after the other."""
    loop = asyncio.get_running_loop()

    async def ask_once(ask: Ask) -> Exchange | None:
        async with asking:
            return await _ask(desk, ask)

    def entry_of(exchange: Exchange) -> ExchangeEntry:
        return ExchangeEntry(
            exchange=exchange, candidate_id=desk.candidate_id, session_id=desk.session_id, purpose=WORKSPACE
        )

    attempt = await run_workspace(
        due.exercise,
        desk.candidate,
        desk.call_form,
        sampling=sampling,
        ask_once=ask_once,
        grader=desk.grader,
        in_thread=lambda work: loop.run_in_executor(desk.threads, desk.grader.in_turn, work),
        entry_of=entry_of,
    )
    if attempt is None:
        raise _ServerGoneError
    return attempt


class _Asked(msgspec.Struct, frozen=True, kw_only=True):
    """One turn as it is put to the model."""

    exercise: Exercise
    sample: int
    fill: float | None
    turn: int
    earlier: dict[str, str] | None  # the model's own files of the turn before
    ask: Ask


class _Graded(msgspec.Struct, frozen=True, kw_only=True):
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
        if exchange is None and not attempts:
            raise _ServerGoneError
        if exchange is None or exchange.fault is not None:
            attempts.append(_faulty(desk, exchange, asked))
            return None
        grade = await _grade(desk, asked, exchange)
        attempts.append(_attempt(desk, exchange, grade, asked))
        if repairs == 0 or grade.outcome not in REPAIRABLE:
            return _Graded(ask=ask, reply=exchange.text, grade=grade)
        repairs -= 1
        ask = follow_up(ask, exchange.text, repair_words(grade), asked.exercise, prompting)


async def _ask(desk: Desk, ask: Ask) -> Exchange | None:
    """The reply, asked again after a fault as often as the plan says; None when the server is gone or takes nothing.

    A server that is too busy and says when to ask again is asked again then; that is not a fault.
    """
    exchange, tries, waits = None, 1 + desk.candidate.grading.fault_retries, 0
    while tries > 0 and desk.server_is_alive():
        reply = await desk.client.ask(ask)
        is_gone = reply.fault is not None and not reply.refused and await _is_gone(desk)
        if reply.fault is not None and not reply.sent:  # it took no connection: this was not asked
            tries = 0 if is_gone else tries - 1
            continue
        exchange = reply
        if exchange.fault is None or exchange.over_context:
            break
        if exchange.retry_after_s is not None and waits < MOST_WAITS:
            waits += 1
            await asyncio.sleep(min(exchange.retry_after_s, LONGEST_WAIT_S))
        else:
            tries -= 1
    return exchange


async def _is_gone(desk: Desk) -> bool:
    """Whether the server's process has ended, now or within a moment."""
    for _ in range(10):
        if not desk.server_is_alive():
            return True
        await asyncio.sleep(SETTLES_WITHIN_S / 10)
    return False


async def _grade(desk: Desk, asked: _Asked, exchange: Exchange) -> Grade:
    loop = asyncio.get_running_loop()
    exercise, prompting = asked.exercise, desk.candidate.prompting

    def grade_once() -> Grade:
        # caught here: an asyncio future never ends with a StopIteration, so the campaign would wait for ever
        try:
            return desk.grader.grade_reply(
                exercise,
                reply_text(exchange.text, exercise, prompting),
                cap_hit=exchange.cap_hit,
                turn=asked.turn,
                earlier=asked.earlier,
                continued=is_bare(exercise, prompting),
            )
        except Exception as err:
            return broken_grade(_words_of_ours(desk, exercise, asked.sample, err))

    for retry in range(1 + desk.candidate.grading.fault_retries):
        grade = await loop.run_in_executor(desk.threads, grade_once)
        if grade.outcome is not Outcome.RIG_FAULT or retry == desk.candidate.grading.fault_retries:
            return grade
    raise AssertionError("unreachable: the last turn returns")


def _entry(desk: Desk, exchange: Exchange, asked: _Asked) -> ExchangeEntry:
    return ExchangeEntry(
        exchange=exchange,
        candidate_id=desk.candidate_id,
        session_id=desk.session_id,
        purpose="answer" if asked.fill is None else "filled answer",
    )


def _faulty(desk: Desk, exchange: Exchange | None, asked: _Asked) -> AttemptEntry:
    if exchange is None:
        return _unasked(Outcome.SERVER_FAULT, "the server was gone before it could be asked", asked.turn)
    outcome = Outcome.OVER_CONTEXT if exchange.over_context else Outcome.SERVER_FAULT
    attempt = _unasked(outcome, f"the server {exchange.fault}", asked.turn)
    return msgspec.structs.replace(attempt, exchange=_entry(desk, exchange, asked))


def _unasked(outcome: Outcome, fault: str, turn: int = 1) -> AttemptEntry:
    """An attempt without a reply."""
    return AttemptEntry(
        turn=turn,
        exchange=None,
        outcome=outcome,
        score=0.0,
        files={},
        language=None,
        how="not looked for",
        remarks=(),
        fault=fault,
        checks=(),
    )


def _attempt(desk: Desk, exchange: Exchange, grade: Grade, asked: _Asked) -> AttemptEntry:
    return AttemptEntry(
        turn=asked.turn,
        exchange=_entry(desk, exchange, asked),
        outcome=grade.outcome,
        score=grade.score,
        files=dict(grade.answer.files),
        language=grade.answer.language,
        how=grade.answer.how,
        remarks=grade.answer.remarks,
        fault=grade.fault,
        checks=grade.checks,
        pictures=tuple((picture.width, picture.png) for picture in grade.pictures),
        graded_by=grade.by,
    )
