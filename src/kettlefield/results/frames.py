"""The record as data frames: one row a trial, a timed request, a memory phase; series for figures."""

import json
from typing import Any

import pandas as pd
import sqlalchemy as sa

from kettlefield.core.errors import InputError
from kettlefield.core.outcome import FAULTS, Outcome
from kettlefield.record import schema
from kettlefield.record.store import Record
from kettlefield.results.rows import not_measured, trials_query
from kettlefield.results.shared_answers import shared_answers

OF_THE_RIG = ("ttft_s", "decode_tps", "answer_ttft_s", "finished_s")  # of a trial, what its machine made of it
ROWS_AT_ONCE = 50_000  # that are read from the place before they become columns


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
        raise InputError("holds no campaign yet", str(record.place), "Run `kettlefield qualify` on its plan.")
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
    """One row a trial of the exercise alone, with the figures of its last attempt's exchange; times in seconds, rates
    in tokens/s.
    """
    return trials_at(record, None)


def trials_at(record: Record, fill: float | None) -> pd.DataFrame:
    """The same of the trials that were asked with a share of the context taken; None: the exercise alone."""
    every = every_trial_frame(record)
    return every[every["context_fill"].isna() if fill is None else every["context_fill"] == fill]


def every_trial_frame(record: Record) -> pd.DataFrame:
    """The same of all trials, whatever stood before their exercise.

    A candidate that shares the answers of another rig has its trials too, but not their times: those are the other's.
    """
    return record.once("every_trial_frame", lambda: _with_shared(record, _frame(record, trials_query())))


def _with_shared(record: Record, trials: pd.DataFrame) -> pd.DataFrame:
    shared = shared_answers(record)
    if not shared:
        return trials
    copies = [
        trials[trials["candidate"] == other].assign(candidate=own, **dict.fromkeys(OF_THE_RIG, float("nan")))
        for own, other in shared.items()
    ]
    return pd.concat([trials, *copies], ignore_index=True)


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
    """What the record says should be known: first what could not be measured, then its notes, oldest first.

    What is said of several candidates in the same words is said once, with all their names.
    """
    query = (
        sa.select(schema.note.c.text, schema.candidate.c.name)
        .outerjoin(schema.candidate, schema.candidate.c.id == schema.note.c.candidate_id)
        .order_by(schema.note.c.id)
    )
    said: dict[tuple[str, bool], list[str]] = {}  # words, and whether they follow a name: the names
    with record.reading() as connection:
        for text, name in connection.execute(query):
            begins = name is not None and text.startswith(f"{name}: ")
            names = said.setdefault((text.removeprefix(f"{name}: ") if begins else text, begins), [])
            names += [name] if begins else []
    merged = [f"{', '.join(names)}: {words}" if begins else words for (words, begins), names in said.items()]
    return [*not_measured(record), *merged]


def noted_candidates(record: Record) -> frozenset[str]:
    """Candidates of which some note speaks."""
    query = sa.select(schema.candidate.c.name).join(schema.note, schema.note.c.candidate_id == schema.candidate.c.id)
    with record.reading() as connection:
        return frozenset(connection.execute(query).scalars())


def _frame(record: Record, query: sa.Select[Any]) -> pd.DataFrame:
    """What a query finds. Rows are made columns a part at a time: as objects a million of them would take gigabytes."""
    with record.reading() as connection:
        streamed = connection.execution_options(stream_results=True)
        pieces = list(pd.read_sql_query(query, streamed, chunksize=ROWS_AT_ONCE))
    if len(pieces) == 1:
        return pieces[0]
    kinds = {name: piece[name].dtype for piece in pieces for name in piece if piece[name].notna().any()}
    # what is empty in one part has the type that it has in the others; whole numbers have no empty value
    wanted = {name: float if pd.api.types.is_numeric_dtype(kind) else kind for name, kind in kinds.items()}
    same = [piece.astype({n: wanted[n] for n in wanted if piece[n].isna().all()}) for piece in pieces]
    return pd.concat(same, ignore_index=True)


def depth_tokens(frame: pd.DataFrame) -> pd.Series:
    """For each request of the depth procedure the median prompt of its depth, in tokens as the server counts."""
    wanted = frame["point"].map(lambda point: point["depth_tokens"])
    return frame["prompt_tokens"].groupby(wanted).transform("median")
