"""What of a record is marked: every different answer once, whoever wrote it, without a word of whose it is."""

import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass

import sqlalchemy as sa

from kettlefield.core.errors import InputError
from kettlefield.core.outcome import FAULTS
from kettlefield.marking.scale import GENERAL_GUIDANCE
from kettlefield.record import schema
from kettlefield.record.packing import unpack_json
from kettlefield.record.store import Record
from kettlefield.suite.format import KINDS
from kettlefield.suite.typed_toml import nearest

MARKED_KINDS = ("explain", "page")  # that come with guidance of their own; others on demand


@dataclass(frozen=True, slots=True, kw_only=True)
class Item:
    """One answer as it is shown to a marker."""

    digest: str
    exercise: str
    title: str
    kind: str
    guidance: str
    prompt: str
    files: Mapping[str, str]
    pictures: Mapping[str, bytes]  # of a page: width -> PNG
    trials: tuple[int, ...]  # whose last attempt it is
    passed: bool  # its checks
    score: float  # their weighted share

    @property
    def length_chars(self) -> int:
        """Of all its files."""
        return sum(map(len, self.files.values()))


def kinds_of(words: str | None) -> tuple[str, ...]:
    """The kinds that a comma-separated option names; none: those with guidance of their own.

    Raises
    ------
    InputError
        There is no such kind.
    """
    if words is None:
        return MARKED_KINDS
    if words == "all":
        return KINDS
    kinds = tuple(word.strip() for word in words.split(","))
    unknown = next((kind for kind in kinds if kind not in KINDS), None)
    if unknown is not None:
        raise InputError(f'there is no kind "{unknown}"', "--kinds", nearest(unknown, [*KINDS, "all"]))
    return kinds


def items_of(record: Record, kinds: tuple[str, ...]) -> tuple[Item, ...]:
    """Every different answer to exercises of some kinds, in the record's order.

    Trials that ended in a fault of server or rig, and replies without an answer, have nothing to be marked.
    """
    trial, attempt, exercise = schema.trial, schema.attempt, schema.exercise
    query = (
        sa.select(
            trial.c.id,
            trial.c.outcome,
            trial.c.score,
            attempt.c.id.label("attempt_id"),
            attempt.c.files,
            attempt.c.exchange_id,
            exercise.c.id.label("exercise"),
            exercise.c.title,
            exercise.c.kind,
            exercise.c.guidance,
        )
        .join(attempt, sa.and_(attempt.c.trial_id == trial.c.id, attempt.c.number == trial.c.attempts))
        .join(exercise, exercise.c.id == trial.c.exercise_id)
        .where(exercise.c.kind.in_(kinds), trial.c.outcome.not_in([str(fault) for fault in FAULTS]))
        .order_by(trial.c.id)
    )
    found: dict[str, Item] = {}
    trials: dict[str, list[int]] = {}
    with record.reading() as connection:
        for row in connection.execute(query):
            files: dict[str, str] = unpack_json(row.files)
            digest = item_digest(row.exercise, files)
            if not files:
                continue
            trials.setdefault(digest, []).append(row.id)
            if digest not in found:
                found[digest] = Item(
                    digest=digest,
                    exercise=row.exercise,
                    title=row.title,
                    kind=row.kind,
                    guidance=row.guidance or GENERAL_GUIDANCE,
                    prompt=_prompt(connection, row.exchange_id),
                    files=files,
                    pictures=_pictures(connection, row.attempt_id),
                    trials=(),
                    passed=row.outcome == "passed",
                    score=row.score,
                )
    return tuple(
        Item(**{name: getattr(item, name) for name in Item.__slots__ if name != "trials"}, trials=tuple(trials[digest]))
        for digest, item in found.items()
    )


def item_digest(exercise: str, files: Mapping[str, str]) -> str:
    """What tells one answer from another: the exercise and every file of the answer."""
    return hashlib.sha256(json.dumps([exercise, sorted(files.items())]).encode()).hexdigest()


def _prompt(connection: sa.Connection, exchange_id: int | None) -> str:
    """What was asked first in the conversation; of a repair turn, that is the exercise too."""
    exchange, prompt = schema.exchange, schema.prompt
    query = sa.select(prompt.c.messages).join(exchange, exchange.c.prompt_id == prompt.c.id)
    packed = connection.execute(query.where(exchange.c.id == exchange_id)).scalar_one_or_none()
    messages = unpack_json(packed) if packed is not None else []
    return next((str(m["content"]) for m in messages if m["role"] in {"user", "prompt"}), "")


def _pictures(connection: sa.Connection, attempt_id: int) -> dict[str, bytes]:
    table = schema.picture
    rows = connection.execute(sa.select(table.c.width, table.c.png).where(table.c.attempt_id == attempt_id))
    return {row.width: row.png for row in rows}
