"""What bounds the use of a candidate: the rate it sustains, the depth to which it decodes fast enough, its loads."""

import json
from dataclasses import dataclass
from typing import Any

import pandas as pd
import sqlalchemy as sa

from kettlefield.core.trend import crossing
from kettlefield.record import schema
from kettlefield.record.store import Record

Ends = dict[str, tuple[str, dict[str, Any]]]  # procedure -> why it ended, what it found


@dataclass(frozen=True, slots=True, kw_only=True)
class Capacity:
    """The highest rate of random arrivals at which the plan's limits hold."""

    holds_rps: float | None  # requests/s
    fails_rps: float | None
    engineers: int | None  # whom it serves, by the plan's requests an engineer and hour
    tries: tuple[dict[str, Any], ...]
    why_ended: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Load:
    """One start of the server."""

    kind: str  # "cold", "warm", "as found"
    load_s: float
    first_answer_s: float | None
    bytes_s: float | None  # the weights' size over the load time


def procedure_ends(record: Record) -> dict[str, Ends]:
    """For each candidate, why each procedure ended and what it found; the last time counts."""
    table, candidate = schema.procedure, schema.candidate
    query = sa.select(candidate.c.name, table.c.name.label("step"), table.c.why_ended, table.c.facts).join(
        candidate, candidate.c.id == table.c.candidate_id
    )
    found: dict[str, Ends] = {}
    with record.reading() as connection:
        for row in connection.execute(query.order_by(table.c.id)):
            found.setdefault(row.name, {})[row.step] = (row.why_ended, json.loads(row.facts))
    return found


def capacity_found(plan: dict[str, Any], ended: Ends) -> Capacity | None:
    """What the search for capacity found; None: it was not made.

    Parameters
    ----------
    plan : dict
        The candidate's ``[speed.arrivals]``.
    ended : Ends
        Its procedures.
    """
    if "arrivals" not in ended:
        return None
    why, facts = ended["arrivals"]
    holds = facts.get("capacity_rps")
    each = float(plan.get("per_engineer_hour", 0.0))
    return Capacity(
        holds_rps=holds,
        fails_rps=facts.get("fails_at_rps"),
        engineers=int(holds * 3600 / each) if holds is not None and each else None,
        tries=tuple(facts.get("tries", ())),
        why_ended=why,
    )


def loads_of(record: Record) -> dict[str, tuple[Load, ...]]:
    """Every timed start of each candidate's server, in the order of the record."""
    table, candidate = schema.session, schema.candidate
    query = sa.select(
        candidate.c.name, candidate.c.weights_bytes, table.c.load_kind, table.c.load_s, table.c.first_answer_s
    ).join(candidate, candidate.c.id == table.c.candidate_id)
    found: dict[str, tuple[Load, ...]] = {}
    with record.reading() as connection:
        for row in connection.execute(query.where(table.c.load_s.is_not(None)).order_by(table.c.id)):
            load = Load(
                kind=row.load_kind,
                load_s=row.load_s,
                first_answer_s=row.first_answer_s,
                bytes_s=row.weights_bytes / row.load_s if row.weights_bytes and row.load_s else None,
            )
            found[row.name] = (*found.get(row.name, ()), load)
    return found


def floor_depth(known: pd.DataFrame, floor_tps: float) -> float | None:
    """The depth in tokens at which decoding falls below a floor; None: nowhere that was tried, or there is none.

    Parameters
    ----------
    known : data frame
        Requests of the depth procedure: columns point, prompt_tokens, decode_rate_tps, none of them missing.
    floor_tps : float
        In tokens/s; 0: none.
    """
    if not floor_tps or known.empty:
        return None
    middles = known["decode_rate_tps"].groupby(depth_tokens(known)).median()
    return crossing(list(middles.index), list(middles), floor_tps)


def depth_tokens(frame: pd.DataFrame) -> pd.Series:
    """For each request of the depth procedure the median prompt of its depth, in tokens as the server counts."""
    wanted = frame["point"].map(lambda point: point["depth_tokens"])
    return frame["prompt_tokens"].groupby(wanted).transform("median")
