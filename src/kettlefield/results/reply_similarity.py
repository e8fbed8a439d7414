"""How far each level's replies follow those of its reference level: an early sign that needs no checks."""

import msgspec
import pandas as pd
import sqlalchemy as sa

from kettlefield.core.extraction.code_text import first_difference, same_code
from kettlefield.core.timing.timeline import quantile
from kettlefield.record import schema
from kettlefield.record.packing import unpack_json, unpack_text
from kettlefield.record.store import Record
from kettlefield.results.rows import candidate_rows, references_of


class ReplyAgreement(msgspec.Struct, frozen=True, kw_only=True):
    """One level beside its reference, over first replies to the same prompts with the same seeds."""

    candidate: str
    reference: str
    temperature: float  # of the level; above 0 replies differ by chance too
    pairs: int
    identical: int
    same_code: int  # of the pairs whose replies both held an answer
    with_answer: int
    parted_at_chars: float | None  # median, of the pairs that differ
    parted_at_share: float | None  # the same as a share of the reference's reply


def reply_agreements(record: Record, *, against: str | None = None) -> tuple[ReplyAgreement, ...]:
    """Every candidate beside its model's reference level, or all beside one candidate.

    Parameters
    ----------
    record : Record
        An open record.
    against : str, optional
        A candidate that takes the reference's place for all.
    """
    candidates = candidate_rows(record)
    references = references_of(candidates)
    replies = _first_replies(record)
    agreements = []
    for entry in candidates:
        name, reference = entry.name, against or references.get(entry.model)
        if reference is None or reference == name:
            continue
        temperature = float(entry.settings.get("sampling", {}).get("temperature", 0.0))
        mine, other = (replies[replies["candidate"] == side].drop(columns="candidate") for side in (name, reference))
        both = mine.merge(other, on=["exercise", "sample", "seed"], suffixes=("", "_reference"))
        if len(both):
            agreements.append(_agreement(name, reference, temperature, both))
    return tuple(agreements)


def _agreement(name: str, reference: str, temperature: float, both: pd.DataFrame) -> ReplyAgreement:
    identical = same = answered = 0
    parted: list[int] = []
    shares: list[float] = []
    for row in both.to_dict("records"):
        mine, other = unpack_text(row["reply"]), unpack_text(row["reply_reference"])
        at = first_difference(mine, other)
        if at is None:
            identical += 1
        else:
            parted.append(at)
            shares.append(at / max(1, len(other)))
        files = [unpack_json(row[side]) for side in ("files", "files_reference")]
        if all(files):
            answered += 1
            same += same_code(*files)
    return ReplyAgreement(
        candidate=name,
        reference=reference,
        temperature=temperature,
        pairs=len(both),
        identical=identical,
        same_code=same,
        with_answer=answered,
        parted_at_chars=quantile(parted, 0.5) if parted else None,
        parted_at_share=quantile(shares, 0.5) if shares else None,
    )


def _first_replies(record: Record) -> pd.DataFrame:
    """One row a trial: the reply to its first request, packed as in the record."""
    trial, attempt, exchange, candidate = schema.trial, schema.attempt, schema.exchange, schema.candidate
    query = (
        sa.select(
            candidate.c.name.label("candidate"),
            trial.c.exercise_id.label("exercise"),
            trial.c["sample"],
            trial.c.seed,
            exchange.c.reply,
            attempt.c.files,
        )
        .join(candidate, candidate.c.id == trial.c.candidate_id)
        .join(attempt, sa.and_(attempt.c.trial_id == trial.c.id, attempt.c.number == 1))
        .join(exchange, exchange.c.id == attempt.c.exchange_id)
        # the last reply of work in a repository says little beside all that came before it
        .where(exchange.c.fault.is_(None), exchange.c.purpose != "workspace", trial.c.context_fill.is_(None))
        .order_by(trial.c.id)
    )
    with record.reading() as connection:
        return pd.read_sql_query(query, connection)
