"""What the store is given to keep: typed, frozen, in base units; written as rows whole or not at all."""

import hashlib
import json
from typing import Any

import msgspec
import sqlalchemy as sa

from kettlefield.core.as_dict import as_dict
from kettlefield.core.outcome import CheckResult, Outcome
from kettlefield.core.timing.timeline import Figures, read_figures
from kettlefield.record import schema
from kettlefield.record.packing import pack_json, pack_stamps, pack_text
from kettlefield.server.exchange import Exchange


class CampaignEntry(msgspec.Struct, frozen=True, kw_only=True):
    """The campaign as it starts."""

    title: str
    plan_text: str
    plan_digest: str
    plan_parts: dict[str, str]
    suite_name: str
    suite_digest: str
    rig: dict[str, object]
    simulated: bool
    until: str | None = None  # "decided": candidates stop as soon as they are


class ExerciseEntry(msgspec.Struct, frozen=True, kw_only=True):
    """What later tables group exercises by."""

    id: str
    title: str
    kind: str
    language: str
    difficulty: int
    topics: tuple[str, ...]
    suite: str  # label
    weight: float  # of its suite's pass rate in the candidate's
    varies: bool  # another seed asks something else
    suite_name: str | None = None  # of its suite, whatever the seed
    suite_seed: int | None = None
    own_id: str | None = None  # its id within its suite
    not_measured: str | None = None  # why it cannot be asked on this rig
    guidance: str | None = None  # for those who mark its replies
    refer: dict[str, object] | None = None  # text (name), chars, needed (shares of what is shown); none: about no text
    block: int | None = None  # in which it is asked, where candidates stop when they are decided


class RigEntry(msgspec.Struct, frozen=True, kw_only=True):
    """One of a campaign's several rigs."""

    name: str  # as the plan calls it
    facts: dict[str, object]  # host, accelerator, toolchains, isolation, calibration
    simulated: bool
    memory_budget_bytes: int | None
    cost_per_hour: float | None  # in the plan's currency


class CandidateEntry(msgspec.Struct, frozen=True, kw_only=True):
    """One candidate with everything that it is asked under."""

    name: str
    model: str
    level: str
    reference: bool
    baseline: bool
    settings: dict[str, object]
    weights_path: str | None
    weights_bytes: int | None
    weights_sha256: str | None
    weights_facts: dict[str, object]
    rig_id: int | None = None  # none: the campaign has one rig


class SessionEntry(msgspec.Struct, frozen=True, kw_only=True):
    """One start of a server, or one attachment to it."""

    candidate_id: int
    command: tuple[str, ...]
    url: str
    description: str
    load_s: float | None
    baseline_bytes: int | None
    load_kind: str = "as found"  # "cold": its pages were dropped before; "warm": read just before
    load_disturbed: str | None = None
    first_answer_s: float | None = None
    program: dict[str, str] | None = None  # path and sha256 of the command's program


class ExchangeEntry(msgspec.Struct, frozen=True, kw_only=True):
    """One request and what came back, with what it was for."""

    exchange: Exchange
    candidate_id: int
    session_id: int
    purpose: str
    point: dict[str, object] | None = None  # what of a procedure
    disturbed: str | None = None
    scheduled_lag_s: float | None = None
    memory_bytes: int | None = None  # host and accelerator together, when it ended

    @property
    def figures(self) -> Figures:
        """What its trace comes to."""
        return read_figures(self.exchange.trace)


class TurnEntry(msgspec.Struct, frozen=True, kw_only=True):
    """One turn of a run in a workspace; its exchange holds only the messages that the turn added."""

    exchange: ExchangeEntry
    calls: tuple[dict[str, Any], ...]  # tool, arguments (as written), result, wall_s, reason (None: carried out)
    results_left_out: int  # earlier results that made room in the context after it


class WorkEntry(msgspec.Struct, frozen=True, kw_only=True):
    """A run in a workspace."""

    form: str  # "functions" or "blocks": how the tools were offered and called
    ended: str  # why it ended
    diff: str  # what it changed, as a unified diff
    lines_changed: int
    own_lines_changed: int  # of the exercise's own answer
    turns: tuple[TurnEntry, ...]


class AttemptEntry(msgspec.Struct, frozen=True, kw_only=True):
    """One attempt of a trial; without an exchange when the server was gone before it could be asked."""

    turn: int  # of the scripted turns, from 1
    exchange: ExchangeEntry | None
    outcome: Outcome
    score: float
    files: dict[str, str]
    language: str | None  # what the answer is written in, as far as it is known
    how: str
    remarks: tuple[str, ...]
    fault: str
    checks: tuple[CheckResult, ...]
    pictures: tuple[tuple[str, bytes], ...] = ()  # of a page: width and PNG
    work: WorkEntry | None = None  # of an exercise in a workspace; the exchange is then that of its last turn
    graded_by: str = ""  # a worker of a fleet; empty: the rig itself


class TrialEntry(msgspec.Struct, frozen=True, kw_only=True):
    """One finished trial."""

    candidate_id: int
    exercise_id: str
    sample: int
    seed: int
    attempts: tuple[AttemptEntry, ...]
    context_fill: float | None = None  # share of the context that files and exercise take; none: the exercise alone

    @property
    def outcome(self) -> Outcome:
        """That of the last attempt."""
        return self.attempts[-1].outcome

    @property
    def first_outcome(self) -> Outcome:
        """What it would have been without repair turns: that of the first attempt that did not pass, else the last."""
        return next((a.outcome for a in self.attempts if a.outcome is not Outcome.PASSED), self.outcome)


def filled_phase(fill: float) -> str:
    """The phase in which exercises are asked with a share of the context taken."""
    return f"answers, context {fill:.0%} full"


class MemoryEntry(msgspec.Struct, frozen=True, kw_only=True):
    """Memory of one phase; the series has the columns microseconds and bytes: host, accelerator, mapped files."""

    session_id: int
    phase: str
    concurrency: int | None = None  # requests in flight during it; None: not one count alone
    samples: int
    host_peak_bytes: int
    accelerator_peak_bytes: int
    peak_bytes: int
    end_bytes: int
    mapped_peak_bytes: int
    energy_j: float | None
    energy_from: str | None
    series: bytes


class ProcedureEntry(msgspec.Struct, frozen=True, kw_only=True):
    """The end of one timing procedure."""

    candidate_id: int
    session_id: int
    name: str
    why_ended: str
    facts: dict[str, object]


class LookEntry(msgspec.Struct, frozen=True, kw_only=True):
    """One criterion of a candidate as it was looked at after a block."""

    candidate_id: int
    block: int
    criterion: int  # of the plan, from 1
    exercises: int  # of those that it is about, asked by then
    planned: int  # of those that it is about
    confidence: float  # one-sided, that the interval has at this look
    value: float | None
    low: float | None
    high: float | None
    trials: int  # that the figure rests on
    status: str
    reason: str  # why it is undecided


class MarkEntry(msgspec.Struct, frozen=True, kw_only=True):
    """A person's mark of one reply; without a value the one before is taken back."""

    marker: str
    exercise_id: str
    item: str  # digest of what was shown
    showing: int
    value: int | None
    note: str
    via: str  # "terminal" or "sheet"


class JudgementEntry(msgspec.Struct, frozen=True, kw_only=True):
    """A judge's answer on one reply, or on two."""

    judge: str
    exercise_id: str
    first_item: str
    second_item: str | None
    round: int
    value: int | None
    choice: str | None
    reply: str
    fault: str


class NoteEntry(msgspec.Struct, frozen=True, kw_only=True):
    """What a reader of the record should know; what is written already is not repeated."""

    text: str
    candidate_id: int | None = None


class SessionChange(msgspec.Struct, frozen=True, kw_only=True):
    """What became known of a session after it began, by the names of its columns."""

    session_id: int
    values: dict[str, Any]


class SignatureEntry(msgspec.Struct, frozen=True, kw_only=True):
    """One decision under one state of the results, chained to the one before it."""

    at: float  # seconds since the epoch
    signed_by: str
    note: str
    verdicts: dict[str, str]  # candidate -> verdict
    plan_digest: str
    suite_digest: str
    results_digest: str
    previous_digest: str
    digest: str
    format: int | None = None  # of the record when it was signed; None: 7 or older


def inserted(connection: sa.Connection, table: sa.Table, row: dict[str, Any]) -> int:
    """Add a row; its id."""
    key = connection.execute(table.insert().values(**row)).inserted_primary_key
    assert key is not None  # noqa: S101 - every table here has an integer key
    return int(key[0])


def put_attempt(connection: sa.Connection, trial_id: int, number: int, entry: AttemptEntry) -> None:
    """Add an attempt with its exchange, checks and pictures."""
    turn_ids = [put_exchange(connection, turn.exchange) for turn in entry.work.turns] if entry.work is not None else []
    exchange_id = turn_ids[-1] if turn_ids else None
    if exchange_id is None and entry.exchange is not None:
        exchange_id = put_exchange(connection, entry.exchange)
    row = {
        "trial_id": trial_id,
        "number": number,
        "turn": entry.turn,
        "exchange_id": exchange_id,
        "outcome": entry.outcome.value,
        "score": entry.score,
        "files": pack_json(entry.files),
        "extraction": json.dumps({"how": entry.how, "remarks": entry.remarks, "language": entry.language}),
        "fault": entry.fault,
        "graded_by": entry.graded_by or None,
    }
    attempt_id = inserted(connection, schema.attempt, row)
    kept = schema.check_result.columns.keys()
    checks = [
        {"attempt_id": attempt_id, **{name: value for name, value in as_dict(check).items() if name in kept}}
        for check in entry.checks
    ]
    if checks:
        connection.execute(schema.check_result.insert(), checks)
    if entry.work is not None:
        _put_work(connection, attempt_id, entry.work, turn_ids)
    pictures = [{"attempt_id": attempt_id, "width": width, "png": png} for width, png in entry.pictures]
    if pictures:
        connection.execute(schema.picture.insert(), pictures)


def _put_work(connection: sa.Connection, attempt_id: int, work: WorkEntry, exchange_ids: list[int]) -> None:
    figures = [turn.exchange.figures for turn in work.turns]
    row = {
        "attempt_id": attempt_id,
        "form": work.form,
        "ended": work.ended,
        "diff": pack_text(work.diff),
        "lines_changed": work.lines_changed,
        "own_lines_changed": work.own_lines_changed,
        "completion_tokens": sum(one.completion_tokens or 0 for one in figures),
        "model_s": sum(one.finished_s for one in figures),
        "tools_s": sum(call["wall_s"] for turn in work.turns for call in turn.calls),
    }
    connection.execute(schema.workspace_run.insert().values(**row))
    rows = [
        {
            "attempt_id": attempt_id,
            "number": number,
            "exchange_id": exchange_id,
            "calls": pack_json(list(turn.calls)),
            "results_left_out": turn.results_left_out,
        }
        for number, (turn, exchange_id) in enumerate(zip(work.turns, exchange_ids, strict=True), 1)
    ]
    if rows:
        connection.execute(schema.workspace_turn.insert(), rows)


def put_exchange(connection: sa.Connection, entry: ExchangeEntry) -> int:
    """Add a request with its reply and figures; its id."""
    exchange = entry.exchange
    row = {
        "candidate_id": entry.candidate_id,
        "session_id": entry.session_id,
        "purpose": entry.purpose,
        "point": json.dumps(entry.point, sort_keys=True) if entry.point is not None else None,
        "disturbed": entry.disturbed,
        "scheduled_lag_s": entry.scheduled_lag_s,
        "memory_bytes": entry.memory_bytes,
        "asked_at": exchange.asked_at,
        "concurrency": exchange.concurrency,
        "prompt_id": _put_prompt(connection, exchange.ask.messages),
        "sampling": json.dumps(exchange.ask.sampling),
        "reply": pack_text(exchange.text),
        "thinking": pack_text(exchange.thinking),
        "finish_reason": exchange.finish_reason,
        "fault": exchange.fault,
        **as_dict(entry.figures),
        "stamps": pack_stamps(exchange.trace.stamps_s, exchange.trace.thinking),
    }
    return inserted(connection, schema.exchange, row)


def _put_prompt(connection: sa.Connection, messages: tuple[dict[str, Any], ...]) -> int:
    digest = hashlib.sha256(json.dumps(messages).encode()).hexdigest()
    table = schema.prompt
    known = connection.execute(sa.select(table.c.id).where(table.c.digest == digest)).scalar_one_or_none()
    if known is not None:
        return int(known)
    return inserted(connection, table, {"digest": digest, "messages": pack_json(messages)})
