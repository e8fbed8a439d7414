"""The answers part of one candidate: every exercise asked, graded and put into the record."""

import asyncio
import dataclasses
from collections.abc import Callable
from concurrent.futures import Executor

from kettlefield.campaign.plan import Candidate
from kettlefield.campaign.prompts import render_exercise, reply_text
from kettlefield.campaign.repair import REPAIRABLE, repair_messages
from kettlefield.core.outcome import Outcome
from kettlefield.core.timeline import read_figures
from kettlefield.grading.grader import Grade, grade_reply
from kettlefield.record.entries import AttemptEntry, CheckEntry, ExchangeEntry, TrialEntry
from kettlefield.sandbox.isolation import Isolation
from kettlefield.server.exchange import Ask, ChatClient, Exchange
from kettlefield.suite.format import Exercise

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
    """One trial: an attempt, and repair turns in the same conversation as long as it fails and the plan allows."""
    seed = _seed(desk, sample)
    prompting = desk.candidate.prompting
    ask = dataclasses.replace(render_exercise(exercise, prompting), sampling=sampling_of(desk.candidate, seed))
    attempts: list[AttemptEntry] = []
    while True:
        async with asking:
            exchange = await _ask(desk, ask)
        if exchange is None or exchange.fault is not None:
            attempts.append(_faulty(desk, exchange))
            break
        grade = await _grade(desk, exercise, exchange)
        attempts.append(_attempt(desk, exchange, grade))
        if len(attempts) > desk.candidate.grading.repair_turns or grade.outcome not in REPAIRABLE:
            break
        ask = dataclasses.replace(ask, messages=(*ask.messages, *repair_messages(exchange.text, grade)))
    return TrialEntry(
        candidate_id=desk.candidate_id,
        exercise_id=exercise.id,
        sample=sample,
        seed=seed,
        attempts=tuple(attempts),
    )


async def _ask(desk: Desk, ask: Ask) -> Exchange | None:
    """The reply, asked again after a fault as often as the plan says; None when the server is gone."""
    exchange = None
    for _ in range(1 + desk.candidate.grading.fault_retries):
        if not desk.server_is_alive():
            break
        exchange = await desk.client.ask(ask)
        if exchange.fault is None:
            break
    return exchange


async def _grade(desk: Desk, exercise: Exercise, exchange: Exchange) -> Grade:
    loop = asyncio.get_running_loop()
    text = reply_text(exchange.text, exercise, desk.candidate.prompting)
    for retry in range(1 + desk.candidate.grading.fault_retries):
        grade = await loop.run_in_executor(
            desk.graders,
            lambda: grade_reply(exercise, text, cap_hit=exchange.cap_hit, isolation=desk.isolation),
        )
        if grade.outcome is not Outcome.RIG_FAULT or retry == desk.candidate.grading.fault_retries:
            return grade
    raise AssertionError("unreachable: the last turn returns")


def _faulty(desk: Desk, exchange: Exchange | None) -> AttemptEntry:
    entry = None
    if exchange is not None:
        entry = exchange_entry(exchange, "answer", desk.candidate_id, desk.session_id)
    return AttemptEntry(
        exchange=entry,
        outcome=Outcome.SERVER_FAULT,
        score=0.0,
        files={},
        how="not looked for",
        remarks=(),
        fault=(exchange.fault if exchange is not None else None) or "the server was gone before it could be asked",
        checks=(),
    )


def _attempt(desk: Desk, exchange: Exchange, grade: Grade) -> AttemptEntry:
    return AttemptEntry(
        exchange=exchange_entry(exchange, "answer", desk.candidate_id, desk.session_id),
        outcome=grade.outcome,
        score=grade.score,
        files={file.name: file.text for file in grade.answer.files},
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
    )
