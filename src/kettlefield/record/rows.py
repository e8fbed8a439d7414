"""Entries as rows: what belongs together is added on one connection, whole or not at all."""

import dataclasses
import hashlib
import json
from typing import Any

import sqlalchemy as sa

from kettlefield.record import schema
from kettlefield.record.entries import AttemptEntry, ExchangeEntry
from kettlefield.record.packing import pack_json, pack_stamps, pack_text


def inserted(connection: sa.Connection, table: sa.Table, row: dict[str, Any]) -> int:
    """Add a row; its id."""
    key = connection.execute(table.insert().values(**row)).inserted_primary_key
    assert key is not None  # noqa: S101 - every table here has an integer key
    return int(key[0])


def put_attempt(connection: sa.Connection, trial_id: int, number: int, entry: AttemptEntry) -> None:
    """Add an attempt with its exchange, checks and pictures."""
    row = {
        "trial_id": trial_id,
        "number": number,
        "turn": entry.turn,
        "exchange_id": put_exchange(connection, entry.exchange) if entry.exchange is not None else None,
        "outcome": entry.outcome.value,
        "score": entry.score,
        "files": pack_json(entry.files),
        "extraction": json.dumps({"how": entry.how, "remarks": entry.remarks, "language": entry.language}),
        "fault": entry.fault,
    }
    attempt_id = inserted(connection, schema.attempt, row)
    checks = [{"attempt_id": attempt_id, **dataclasses.asdict(check)} for check in entry.checks]
    if checks:
        connection.execute(schema.check_result.insert(), checks)
    pictures = [{"attempt_id": attempt_id, "width": width, "png": png} for width, png in entry.pictures]
    if pictures:
        connection.execute(schema.picture.insert(), pictures)


def put_exchange(connection: sa.Connection, entry: ExchangeEntry) -> int:
    """Add a request with its reply and figures; its id."""
    row = {
        "candidate_id": entry.candidate_id,
        "session_id": entry.session_id,
        "purpose": entry.purpose,
        "point": json.dumps(entry.point, sort_keys=True) if entry.point is not None else None,
        "disturbed": entry.disturbed,
        "scheduled_lag_s": entry.scheduled_lag_s,
        "memory_bytes": entry.memory_bytes,
        "asked_at": entry.asked_at,
        "in_flight": entry.in_flight,
        "prompt_id": _put_prompt(connection, entry.messages),
        "sampling": json.dumps(entry.sampling),
        "reply": pack_text(entry.reply),
        "thinking": pack_text(entry.thinking),
        "finish_reason": entry.finish_reason,
        "fault": entry.fault,
        **dataclasses.asdict(entry.figures),
        "stamps": pack_stamps(entry.stamps_s, entry.stamp_marks),
    }
    return inserted(connection, schema.exchange, row)


def _put_prompt(connection: sa.Connection, messages: tuple[dict[str, str], ...]) -> int:
    digest = hashlib.sha256(json.dumps(messages).encode()).hexdigest()
    table = schema.prompt
    found = connection.execute(sa.select(table.c.id).where(table.c.digest == digest)).scalar_one_or_none()
    if found is not None:
        return int(found)
    return inserted(connection, table, {"digest": digest, "messages": pack_json(messages)})
