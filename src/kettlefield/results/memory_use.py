"""Memory and energy of each candidate: by phase, per context token, per stream, per request; joules per token."""

from typing import Any

import msgspec
import pandas as pd
import sqlalchemy as sa

from kettlefield.core.outcome import Outcome
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.trends import slope
from kettlefield.record import schema
from kettlefield.record.earlier import phase_now
from kettlefield.record.store import Record
from kettlefield.results.frames import depth_tokens
from kettlefield.results.rows import candidate_rows, references_of
from kettlefield.results.speed import timed_frame

ENERGY_PHASE = "answers"
LOAD_PHASE = "load"


class PhaseMemory(msgspec.Struct, frozen=True, kw_only=True):
    """One phase of one session; bytes."""

    phase: str
    concurrency: int | None  # requests in flight during it; None: not one count alone
    peak_bytes: int  # host and accelerator together
    end_bytes: int
    host_peak_bytes: int
    mapped_peak_bytes: int  # of the host's: pages of files, as weights
    accelerator_peak_bytes: int
    energy_j: float | None


class Less(msgspec.Struct, frozen=True, kw_only=True):
    """How much less a candidate takes than its reference level; what the server itself takes cancels out."""

    reference: str
    loaded_bytes: int  # measured, when the load has ended; below 0: it takes more
    weights_bytes: int  # by the files' sizes


class Memory(msgspec.Struct, frozen=True, kw_only=True):
    """All of one candidate."""

    candidate: str
    baseline_bytes: int | None  # on the accelerator before the start
    phases: tuple[PhaseMemory, ...]
    weights_bytes: int | None  # of the files
    less_than_reference: "Less | None"  # none: it is the reference, or there is none
    token_slope_bytes: Estimate | None  # for every token of context
    predicted_token_bytes: int | None  # the same, as the weights' header predicts it
    stream_slope_bytes: Estimate | None  # for every further stream
    leak_bytes: Estimate | None  # for every request
    energy_from: str | None  # None: not available here
    joules_per_token: float | None
    joules_per_solved: float | None

    @property
    def loaded_bytes(self) -> int | None:
        """Host and accelerator together when the load has ended."""
        return next((phase.end_bytes for phase in self.phases if phase.phase == LOAD_PHASE), None)

    @property
    def leaks(self) -> bool:
        """Whether memory grows with every request beyond doubt."""
        return self.leak_bytes is not None and self.leak_bytes.low is not None and self.leak_bytes.low > 0


def memories(record: Record) -> tuple[Memory, ...]:
    """Every candidate's memory and energy, in the order of the record."""
    return record.once("memories", lambda: _read_memories(record))


def _read_memories(record: Record) -> tuple[Memory, ...]:
    timed, blocks = timed_frame(record), _blocks(record)
    energy = _energy(record)
    candidates = candidate_rows(record)
    rows = []
    for entry in candidates:
        name = entry.name
        mine, phases = timed[timed["candidate"] == name], blocks[blocks["candidate"] == name]
        sources = phases["energy_from"].dropna()
        per_token, per_solved = energy.get(name, (None, None))
        rows.append(
            Memory(
                candidate=name,
                baseline_bytes=_first(phases["baseline_bytes"]),
                phases=tuple(_phase(row) for row in phases.to_dict("records")),
                weights_bytes=entry.weights_bytes,
                less_than_reference=None,
                token_slope_bytes=_token_slope(mine[mine["purpose"] == "depth"]),
                predicted_token_bytes=entry.weights_facts.get("kv_bytes_per_token"),
                stream_slope_bytes=_stream_slope(phases),
                leak_bytes=_leak(mine[mine["purpose"] == "leak"]),
                energy_from=str(sources.iloc[0]) if len(sources) else None,
                joules_per_token=per_token,
                joules_per_solved=per_solved,
            )
        )
    references = references_of(candidates)
    against = {entry.name: references.get(entry.model) for entry in candidates}
    by_name = {row.candidate: row for row in rows}
    return tuple(
        msgspec.structs.replace(row, less_than_reference=_less(row, by_name.get(against[row.candidate] or "")))
        for row in rows
    )


def _less(row: Memory, reference: Memory | None) -> Less | None:
    if reference is None or reference is row:
        return None
    taken, files = (reference.loaded_bytes, row.loaded_bytes), (reference.weights_bytes, row.weights_bytes)
    if None in taken or None in files:
        return None
    measured, written = (int(one or 0) - int(other or 0) for one, other in (taken, files))
    return Less(reference=reference.candidate, loaded_bytes=measured, weights_bytes=written)


def _blocks(record: Record) -> pd.DataFrame:
    block, session, candidate = schema.memory_block, schema.session, schema.candidate
    columns = (
        "phase",
        "concurrency",
        "peak_bytes",
        "end_bytes",
        "host_peak_bytes",
        "mapped_peak_bytes",
        "accelerator_peak_bytes",
    )
    query = (
        sa.select(
            candidate.c.name.label("candidate"),
            session.c.baseline_bytes,
            *(block.c[name] for name in (*columns, "energy_j", "energy_from")),
        )
        .join(session, session.c.id == block.c.session_id)
        .join(candidate, candidate.c.id == session.c.candidate_id)
        .where(session.c.load_kind != "cold", block.c.superseded_at.is_(None))
        .order_by(block.c.id)
    )
    with record.reading() as connection:
        return pd.read_sql_query(query, connection)


def _phase(row: dict[Any, Any]) -> PhaseMemory:
    known = {name: row[name] for name in PhaseMemory.__struct_fields__}
    known["phase"] = phase_now(known["phase"])
    known["concurrency"] = None if pd.isna(row["concurrency"]) else int(row["concurrency"])
    known["energy_j"] = None if pd.isna(row["energy_j"]) else float(row["energy_j"])
    return PhaseMemory(**known)


def token_slope(record: Record, candidate: str) -> float | None:
    """Growth of a candidate's memory with each token of context, in bytes; None: not measured, or none beyond doubt."""
    timed = timed_frame(record)
    slope_found = _token_slope(timed[(timed["candidate"] == candidate) & (timed["purpose"] == "depth")])
    return (
        slope_found.value if slope_found is not None and slope_found.low is not None and slope_found.low > 0 else None
    )


def _token_slope(frame: pd.DataFrame) -> Estimate | None:
    known = frame[frame["prompt_tokens"].notna() & frame["memory_bytes"].notna()]
    return slope(list(depth_tokens(known)), list(known["memory_bytes"])) if len(known) else None


def _stream_slope(phases: pd.DataFrame) -> Estimate | None:
    pairs = [
        (int(row["concurrency"]), int(row["peak_bytes"]))
        for row in phases.dropna(subset=["concurrency"]).to_dict("records")
    ]
    return slope([count for count, _ in pairs], [peak for _, peak in pairs])


def _leak(frame: pd.DataFrame) -> Estimate | None:
    known = frame[frame["memory_bytes"].notna()]
    return slope([point["number"] for point in known["point"]], list(known["memory_bytes"]))


def _energy(record: Record) -> dict[str, tuple[float | None, float | None]]:
    """For each candidate joules per token and per exercise solved, both of the answers part."""
    block, session, candidate = schema.memory_block, schema.session, schema.candidate
    exchange, trial = schema.exchange, schema.trial
    measured = (
        sa.select(candidate.c.name, sa.func.sum(block.c.energy_j).label("joules"))
        .join(session, session.c.id == block.c.session_id)
        .join(candidate, candidate.c.id == session.c.candidate_id)
        .where(block.c.phase == ENERGY_PHASE, block.c.energy_j.is_not(None))
        .group_by(candidate.c.name)
    )
    tokens = (
        sa.select(candidate.c.name, sa.func.sum(exchange.c.completion_tokens).label("tokens"))
        .join(candidate, candidate.c.id == exchange.c.candidate_id)
        .where(exchange.c.purpose == "answer")
        .group_by(candidate.c.name)
    )
    solved = (
        sa.select(candidate.c.name, sa.func.count().label("solved"))
        .join(candidate, candidate.c.id == trial.c.candidate_id)
        .where(trial.c.first_outcome == Outcome.PASSED.value, trial.c.context_fill.is_(None))
        .group_by(candidate.c.name)
    )
    with record.reading() as connection:
        made = {row.name: row.tokens for row in connection.execute(tokens)}
        won = {row.name: row.solved for row in connection.execute(solved)}
        return {
            row.name: (
                row.joules / made[row.name] if made.get(row.name) else None,
                row.joules / won[row.name] if won.get(row.name) else None,
            )
            for row in connection.execute(measured)
        }


def _first(values: pd.Series) -> int | None:
    known = values.dropna()
    return int(known.iloc[0]) if len(known) else None
