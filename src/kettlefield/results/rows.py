"""A record's rows as typed values, their JSON decoded: candidates, exercises, sessions, answers, marks, judgements."""

import json
from collections.abc import Iterator, Mapping, Sequence
from typing import Any, Literal

import msgspec
import numpy as np
import sqlalchemy as sa

from kettlefield.core.errors import InputError
from kettlefield.core.outcome import FAULTS, Outcome
from kettlefield.core.statistics.estimate import not_measured_words
from kettlefield.record import schema
from kettlefield.record.earlier import settings_now
from kettlefield.record.packing import unpack_json, unpack_text
from kettlefield.record.store import Record

MOST_COUNTED = 400  # prompts whose characters a token are looked at


class CandidateRow(msgspec.Struct, frozen=True, kw_only=True):
    """One candidate as it was registered."""

    id: int
    name: str
    model: str
    level: str
    is_reference: bool
    settings: Mapping[str, Any]  # by the plan's tables, under their present names
    weights_path: str | None
    weights_bytes: int | None
    weights_sha256: str | None
    weights_facts: Mapping[str, Any]  # what the header says, and what it predicts


class Referred(msgspec.Struct, frozen=True, kw_only=True):
    """The long text that an exercise is about."""

    text: str  # its name
    chars: int
    needed: tuple[float, ...]  # of each needed part its middle, as a share of the exercise's text


class ExerciseRow(msgspec.Struct, frozen=True, kw_only=True):
    """One exercise of the campaign."""

    id: str
    title: str
    kind: str
    language: str
    difficulty: int
    topics: tuple[str, ...]
    suite: str
    weight: float  # of its suite's pass rate in the candidate's
    varies: bool
    suite_name: str | None
    suite_seed: int | None
    own_id: str | None  # within its suite
    not_measured: str | None  # why it could not be asked on the rig
    guidance: str | None
    refer: Referred | None  # the long text that it is about
    block: int | None  # in which it is asked, where candidates stop when they are decided

    @property
    def groups(self) -> dict[str, str]:
        """What criteria tell exercises apart by."""
        return {
            "kind": self.kind,
            "language": self.language,
            "difficulty": str(self.difficulty),
            "suite": self.suite,
            "topic": ",".join(self.topics),
        }


class SessionRow(msgspec.Struct, frozen=True, kw_only=True):
    """What served a candidate once."""

    candidate: str
    description: str
    program: Mapping[str, str] | None  # path and sha256 of the command's program
    loaded: Mapping[str, Any] | None  # files and packages that its processes had loaded
    preflight: Mapping[str, Any] | None


class AnswerRow(msgspec.Struct, frozen=True, kw_only=True):
    """The last answer of one trial that did not end in a fault."""

    trial: int
    exercise: ExerciseRow
    outcome: Outcome
    score: float
    files: Mapping[str, str]
    attempt: int
    exchange: int | None


class MarkRow(msgspec.Struct, frozen=True, kw_only=True):
    """A person's mark; without a value the one before is taken back."""

    marker: str
    item: str
    showing: int
    value: int | None
    note: str


class JudgementRow(msgspec.Struct, frozen=True, kw_only=True):
    """A judge's answer on one reply, or on two."""

    judge: str
    first_item: str
    second_item: str | None
    round: int
    value: int | None
    choice: Literal["first", "second", "equal"] | None
    fault: str


def candidate_rows(record: Record) -> tuple[CandidateRow, ...]:
    """Every candidate, in the order in which they were run."""
    return record.once("candidate_rows", lambda: tuple(_candidates(record)))


def _candidates(record: Record) -> Iterator[CandidateRow]:
    for row in _rows(record, sa.select(schema.candidate).order_by(schema.candidate.c.id)):
        yield CandidateRow(
            id=row.id,
            name=row.name,
            model=row.model,
            level=row.level,
            is_reference=row.reference,
            settings=settings_now(row.settings),
            weights_path=row.weights_path,
            weights_bytes=row.weights_bytes,
            weights_sha256=row.weights_sha256,
            weights_facts=json.loads(row.weights_facts),
        )


def references_of(candidates: Sequence[CandidateRow]) -> dict[str, str]:
    """For each model the name of its reference level."""
    return {one.model: one.name for one in candidates if one.is_reference}


def exercise_rows(record: Record) -> tuple[ExerciseRow, ...]:
    """Every exercise, by its id."""
    return record.once("exercise_rows", lambda: tuple(_exercises(record)))


def _exercises(record: Record) -> Iterator[ExerciseRow]:
    names = [name for name in ExerciseRow.__struct_fields__ if name not in {"topics", "refer"}]
    for row in _rows(record, sa.select(schema.exercise).order_by(schema.exercise.c.id)):
        plain = {name: getattr(row, name) for name in names}
        refer = None
        if row.refer is not None:
            told = json.loads(row.refer)
            refer = Referred(text=told["text"], chars=told["chars"], needed=tuple(told["needed"]))
        yield ExerciseRow(**plain, topics=tuple(json.loads(row.topics)), refer=refer)


def session_rows(record: Record) -> Iterator[SessionRow]:
    """Every session, oldest first."""
    session, candidate = schema.session, schema.candidate
    query = (
        sa.select(candidate.c.name, session.c.description, session.c.program, session.c.loaded, session.c.preflight)
        .join(candidate, candidate.c.id == session.c.candidate_id)
        .order_by(session.c.id)
    )
    for row in _rows(record, query):
        yield SessionRow(
            candidate=row.name,
            description=row.description,
            program=json.loads(row.program) if row.program else None,
            loaded=json.loads(row.loaded) if row.loaded else None,
            preflight=json.loads(row.preflight) if row.preflight else None,
        )


def answer_rows(record: Record, kinds: Sequence[str]) -> Iterator[AnswerRow]:
    """The last answer of every trial of some kinds of exercise, in the record's order."""
    trial, attempt, exercise = schema.trial, schema.attempt, schema.exercise
    query = (
        sa.select(
            trial.c.id,
            trial.c.outcome,
            trial.c.score,
            trial.c.exercise_id,
            attempt.c.id.label("attempt_id"),
            attempt.c.files,
            attempt.c.exchange_id,
        )
        .join(attempt, sa.and_(attempt.c.trial_id == trial.c.id, attempt.c.number == trial.c.attempts))
        .join(exercise, exercise.c.id == trial.c.exercise_id)
        .where(
            exercise.c.kind.in_(kinds),
            trial.c.outcome.not_in([str(fault) for fault in FAULTS]),
            trial.c.context_fill.is_(None),
        )
        .order_by(trial.c.id)
    )
    exercises = {one.id: one for one in exercise_rows(record)}
    for row in _rows(record, query):
        yield AnswerRow(
            trial=row.id,
            exercise=exercises[row.exercise_id],
            outcome=Outcome(row.outcome),
            score=row.score,
            files=unpack_json(row.files),
            attempt=row.attempt_id,
            exchange=row.exchange_id,
        )


def prompt_of(record: Record, exchange_id: int | None) -> str:
    """What was asked first in the conversation of a request; of a repair turn, that is the exercise too."""
    exchange, prompt = schema.exchange, schema.prompt
    query = sa.select(prompt.c.messages).join(exchange, exchange.c.prompt_id == prompt.c.id)
    with record.reading() as connection:
        packed = connection.execute(query.where(exchange.c.id == exchange_id)).scalar_one_or_none()
    messages = unpack_json(packed) if packed is not None else []
    return next((str(m["content"]) for m in messages if m["role"] in {"user", "prompt"}), "")


def pictures_of(record: Record, attempt_id: int) -> dict[str, bytes]:
    """The pictures of a page, by width: PNG."""
    table = schema.picture
    query = sa.select(table.c.width, table.c.png).where(table.c.attempt_id == attempt_id)
    return {row.width: row.png for row in _rows(record, query)}


def mark_rows(record: Record) -> Iterator[MarkRow]:
    """Every mark, oldest first."""
    names = list(MarkRow.__struct_fields__)
    for row in _rows(record, sa.select(schema.mark).order_by(schema.mark.c.id)):
        yield MarkRow(**{name: getattr(row, name) for name in names})


def judgement_rows(record: Record) -> Iterator[JudgementRow]:
    """Every answer of a judge, oldest first."""
    names = list(JudgementRow.__struct_fields__)
    for row in _rows(record, sa.select(schema.judgement).order_by(schema.judgement.c.id)):
        yield JudgementRow(**{name: getattr(row, name) for name in names})


def check_details(record: Record, ends: Sequence[str]) -> Iterator[tuple[int, str]]:
    """Trial and detail of every check that ended in one of some ways."""
    check, attempt = schema.check_result, schema.attempt
    query = (
        sa.select(attempt.c.trial_id, check.c.detail)
        .join(attempt, attempt.c.id == check.c.attempt_id)
        .where(check.c.end.in_(ends))
    )
    for row in _rows(record, query):
        yield row.trial_id, row.detail


def chars_per_token(record: Record) -> dict[str, float]:
    """For each candidate the characters a token of the prompts that its server counted, in the mean."""
    exchange, candidate, prompt = schema.exchange, schema.candidate, schema.prompt
    query = (
        sa.select(candidate.c.name, exchange.c.prompt_tokens, prompt.c.messages)
        .join(candidate, candidate.c.id == exchange.c.candidate_id)
        .join(prompt, prompt.c.id == exchange.c.prompt_id)
        .where(exchange.c.purpose.in_(("count", "answer")), exchange.c.prompt_tokens > 0)
        .order_by(exchange.c.id)
        .limit(MOST_COUNTED)
    )
    ratios: dict[str, list[float]] = {}
    for row in _rows(record, query):
        chars = sum(len(message["content"]) for message in unpack_json(row.messages))
        ratios.setdefault(row.name, []).append(chars / row.prompt_tokens)
    return {name: float(np.mean(values)) for name, values in ratios.items()}


def trials_query() -> sa.Select[Any]:
    """One row a trial with the figures of its last attempt's exchange; times in seconds, rates in tokens/s."""
    trial, attempt, exchange, candidate = schema.trial, schema.attempt, schema.exchange, schema.candidate
    exercise, run = schema.exercise, schema.workspace_run
    # variants of one exercise, on several seeds of its suite, are one task; without several each is its own
    task = sa.func.coalesce(exercise.c.suite_name + "/" + exercise.c.own_id, exercise.c.id)
    last = sa.and_(attempt.c.trial_id == trial.c.id, attempt.c.number == trial.c.attempts)
    return (
        sa.select(
            trial.c.id,
            candidate.c.name.label("candidate"),
            trial.c.exercise_id.label("exercise"),
            task.label("task"),
            trial.c["sample"],
            trial.c.seed,
            trial.c.context_fill,
            trial.c.outcome,
            trial.c.score,
            trial.c.attempts,
            trial.c.first_outcome,
            exchange.c.concurrency,
            exchange.c.ttft_s,
            exchange.c.decode_tps,
            exchange.c.prompt_tokens,
            # of a run in a workspace all turns count
            sa.func.coalesce(run.c.completion_tokens, exchange.c.completion_tokens).label("completion_tokens"),
            exchange.c.thinking_tokens,
            exchange.c.answer_ttft_s,
            sa.func.coalesce(run.c.model_s + run.c.tools_s, exchange.c.finished_s).label("finished_s"),
            exchange.c.finish_reason,
        )
        .join(candidate, candidate.c.id == trial.c.candidate_id)
        .join(exercise, exercise.c.id == trial.c.exercise_id)
        .join(attempt, last)
        .outerjoin(exchange, exchange.c.id == attempt.c.exchange_id)
        .outerjoin(run, run.c.attempt_id == attempt.c.id)
        .order_by(trial.c.id)
    )


def trial_rows(record: Record) -> list[dict[str, Any]]:
    """What `trials_query` finds, by the names of its columns; None: not measured."""
    with record.reading() as connection:
        return [dict(row) for row in connection.execute(trials_query()).mappings()]


def not_measured(record: Record) -> list[str]:
    """Exercises that could not be asked on the rig, by the reason, in words; empty when all could."""
    return not_measured_words(
        {one.id: one.not_measured for one in exercise_rows(record) if one.not_measured is not None}
    )


def open_trial(record: Record, trial_id: int) -> dict[str, Any]:
    """One trial whole: each attempt with its messages, reply, files, check results and timings.

    Raises
    ------
    InputError
        There is no such trial.
    """
    trial, candidate = schema.trial, schema.candidate
    with record.reading() as connection:
        query = sa.select(trial, candidate.c.name.label("candidate")).join(
            candidate, candidate.c.id == trial.c.candidate_id
        )
        row = connection.execute(query.where(trial.c.id == trial_id)).mappings().first()
        if row is None:
            most = connection.execute(sa.select(sa.func.max(trial.c.id))).scalar_one_or_none()
            hint = "It holds none yet." if most is None else f"Ids go up to {most}; `kettlefield trials` lists them."
            raise InputError(f"there is no trial {trial_id}", str(record.place), hint)
        attempts = connection.execute(
            sa.select(schema.attempt).where(schema.attempt.c.trial_id == trial_id).order_by(schema.attempt.c.number)
        ).mappings()
        return {**row, "attempts": [_open_attempt(connection, dict(attempt)) for attempt in attempts.all()]}


def _open_attempt(connection: sa.Connection, attempt: dict[str, Any]) -> dict[str, Any]:
    exchange, prompt, check = schema.exchange, schema.prompt, schema.check_result
    query = sa.select(exchange, prompt.c.messages).join(prompt, prompt.c.id == exchange.c.prompt_id)
    kept = connection.execute(query.where(exchange.c.id == attempt["exchange_id"])).mappings().first()
    opened = None
    if kept is not None:
        opened = {key: value for key, value in kept.items() if key != "stamps"}
        opened["messages"] = unpack_json(kept["messages"])
        opened["sampling"] = json.loads(kept["sampling"])
        opened["reply"], opened["thinking"] = unpack_text(kept["reply"]), unpack_text(kept["thinking"])
    checks = connection.execute(sa.select(check).where(check.c.attempt_id == attempt["id"]).order_by(check.c.id))
    picture = schema.picture
    pictures = sa.select(picture.c.width, picture.c.png).where(picture.c.attempt_id == attempt["id"])
    return {
        "number": attempt["number"],
        "turn": attempt["turn"],
        "outcome": attempt["outcome"],
        "score": attempt["score"],
        "fault": attempt["fault"],
        "graded_by": attempt["graded_by"],
        "files": unpack_json(attempt["files"]),
        **json.loads(attempt["extraction"]),
        "exchange": opened,
        "checks": [dict(row) for row in checks.mappings()],
        "pictures": {row.width: row.png for row in connection.execute(pictures)},
    }


def _rows(record: Record, query: sa.Select[Any]) -> Sequence[sa.Row[Any]]:
    with record.reading() as connection:
        return connection.execute(query).all()
