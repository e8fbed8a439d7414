"""The record as data frames: one row a trial, a timed request, a memory phase; series for figures."""

import json
from typing import Any

import pandas as pd
import sqlalchemy as sa

from kettlefield.core.errors import InputError
from kettlefield.core.outcome import FAULTS, Outcome
from kettlefield.core.statistics.estimate import not_measured_words
from kettlefield.record import schema
from kettlefield.record.packing import unpack_json, unpack_text
from kettlefield.record.store import Record
from kettlefield.results.rows import exercise_rows


def campaign_facts(record: Record) -> dict[str, Any]:
    """The campaign's row, its JSON columns decoded.

    Raises
    ------
    InputError
        No campaign was begun in this record.
    """
    return record.once("campaign_facts", lambda: _read_campaign_facts(record))


def _read_campaign_facts(record: Record) -> dict[str, Any]:
    row = record.campaign()
    if row is None:
        raise InputError("holds no campaign yet", str(record.path), "Run `kettlefield qualify` on its plan.")
    with record.reading() as connection:
        simulated = row["simulated"] or any(connection.execute(sa.select(schema.session.c.simulated)).scalars())
    return {**row, "rig": json.loads(row["rig"]), "simulated": bool(simulated)}


def candidates_frame(record: Record) -> pd.DataFrame:
    """One row a candidate, in the order in which they were run."""
    return record.once("candidates_frame", lambda: _read_candidates_frame(record))


def _read_candidates_frame(record: Record) -> pd.DataFrame:
    table = schema.candidate
    return _frame(record, sa.select(table).order_by(table.c.id))


def trials_frame(record: Record) -> pd.DataFrame:
    """One row a trial with the figures of its last attempt's exchange; times in seconds, rates in tokens/s."""
    return record.once("trials_frame", lambda: _read_trials_frame(record))


def _read_trials_frame(record: Record) -> pd.DataFrame:
    trial, attempt, exchange, candidate = schema.trial, schema.attempt, schema.exchange, schema.candidate
    last = sa.and_(attempt.c.trial_id == trial.c.id, attempt.c.number == trial.c.attempts)
    query = (
        sa.select(
            trial.c.id,
            candidate.c.name.label("candidate"),
            trial.c.exercise_id.label("exercise"),
            trial.c["sample"],
            trial.c.seed,
            trial.c.outcome,
            trial.c.score,
            trial.c.attempts,
            trial.c.first_outcome,
            exchange.c.concurrency,
            exchange.c.ttft_s,
            exchange.c.decode_tps,
            exchange.c.prompt_tokens,
            exchange.c.completion_tokens,
            exchange.c.thinking_tokens,
            exchange.c.answer_ttft_s,
            exchange.c.finished_s,
            exchange.c.finish_reason,
        )
        .join(candidate, candidate.c.id == trial.c.candidate_id)
        .join(attempt, last)
        .outerjoin(exchange, exchange.c.id == attempt.c.exchange_id)
        .order_by(trial.c.id)
    )
    return _frame(record, query)


def counted_trials(trials: pd.DataFrame) -> pd.DataFrame:
    """The trials that count, with ``passed``: at the first attempt; faults of server and rig are left out."""
    counted = trials[~trials["outcome"].isin([str(fault) for fault in FAULTS])]
    return counted.assign(passed=counted["first_outcome"] == Outcome.PASSED.value)


def speed_frame(record: Record) -> pd.DataFrame:
    """One row a timed request that was taken alone and ended without a fault; warm-ups are left out."""
    return record.once("speed_frame", lambda: _read_speed_frame(record))


def _read_speed_frame(record: Record) -> pd.DataFrame:
    exchange, candidate = schema.exchange, schema.candidate
    query = (
        sa.select(
            candidate.c.name.label("candidate"),
            exchange.c.ttft_s,
            exchange.c.decode_tps,
            exchange.c.prefill_tps,
            exchange.c.prompt_tokens,
            exchange.c.completion_tokens,
            exchange.c.token_count,
            exchange.c.disturbed,
            exchange.c.point,
            exchange.c.session_id.label("session"),
        )
        .join(candidate, candidate.c.id == exchange.c.candidate_id)
        .where(
            exchange.c.purpose == "latency",
            exchange.c.concurrency == 1,
            exchange.c.fault.is_(None),
            exchange.c.superseded_at.is_(None),
        )
        .order_by(exchange.c.id)
    )
    frame = _frame(record, query)
    return frame.assign(point=[json.loads(text or "{}") for text in frame["point"]])


def memory_frame(record: Record) -> pd.DataFrame:
    """One row a phase of a session: peaks in bytes, load time in seconds."""
    return record.once("memory_frame", lambda: _read_memory_frame(record))


def _read_memory_frame(record: Record) -> pd.DataFrame:
    block, session, candidate = schema.memory_block, schema.session, schema.candidate
    query = (
        sa.select(
            candidate.c.name.label("candidate"),
            session.c.id.label("session"),
            session.c.load_s,
            session.c.load_kind,
            session.c.load_disturbed,
            block.c.phase,
            block.c.host_peak_bytes,
            block.c.accelerator_peak_bytes,
            block.c.peak_bytes,
            block.c.end_bytes,
        )
        .select_from(session)
        .join(candidate, candidate.c.id == session.c.candidate_id)
        .outerjoin(block, sa.and_(block.c.session_id == session.c.id, block.c.superseded_at.is_(None)))
        .order_by(session.c.id, block.c.id)
    )
    return _frame(record, query)


def notes(record: Record) -> list[str]:
    """What the record says should be known: first what could not be measured, then its notes, oldest first."""
    with record.reading() as connection:
        written = connection.execute(sa.select(schema.note.c.text).order_by(schema.note.c.id)).scalars()
        return [*not_measured(record), *written]


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
            raise InputError(f"there is no trial {trial_id}", str(record.path), hint)
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
        "files": unpack_json(attempt["files"]),
        **json.loads(attempt["extraction"]),
        "exchange": opened,
        "checks": [dict(row) for row in checks.mappings()],
        "pictures": {row.width: row.png for row in connection.execute(pictures)},
    }


def _frame(record: Record, query: sa.Select[Any]) -> pd.DataFrame:
    with record.reading() as connection:
        return pd.read_sql_query(query, connection)


def depth_tokens(frame: pd.DataFrame) -> pd.Series:
    """For each request of the depth procedure the median prompt of its depth, in tokens as the server counts."""
    wanted = frame["point"].map(lambda point: point["depth_tokens"])
    return frame["prompt_tokens"].groupby(wanted).transform("median")
