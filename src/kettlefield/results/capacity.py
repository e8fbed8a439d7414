"""What bounds the use of a candidate: rate sustained, depth, loads, and the stopwatch's own error."""

from typing import Any

import msgspec
import pandas as pd
import sqlalchemy as sa

from kettlefield.core.statistics.estimate import Estimate, in_unit, with_interval
from kettlefield.core.statistics.trends import crossing
from kettlefield.core.units import Unit, format_duration
from kettlefield.record import schema
from kettlefield.record.earlier import facts_now, named_now
from kettlefield.record.store import Record
from kettlefield.results.frames import campaign_facts, depth_tokens
from kettlefield.results.rig_rows import rig_rows

MOSTLY = 0.5  # of a load's time: this share of it must be reading before a rate of reading is given
Ends = dict[str, tuple[str, dict[str, Any]]]  # procedure -> why it ended, what it found


class Capacity(msgspec.Struct, frozen=True, kw_only=True):
    """The highest rate of random arrivals at which the plan's limits hold."""

    holds_rps: float | None  # requests/s
    fails_rps: float | None
    engineers: int | None  # whom it serves, by the plan's requests an engineer and hour
    tries: tuple[dict[str, Any], ...]
    why_ended: str
    disturbed: str  # what the host was busy with at the rate that failed, so that it says nothing; empty: nothing


class Load(msgspec.Struct, frozen=True, kw_only=True):
    """One start of the server."""

    kind: str  # "cold", "warm", "as found"
    load_s: float
    first_answer_s: float | None
    bytes_s: float | None  # the weights' size over the load time; None: the load was not mostly reading
    disturbed: str | None  # what the host was busy with meanwhile


def procedure_ends(record: Record) -> dict[str, Ends]:
    """For each candidate, why each procedure ended and what it found; the last time counts."""
    return record.once("procedure_ends", lambda: _read_procedure_ends(record))


def _read_procedure_ends(record: Record) -> dict[str, Ends]:
    table, candidate = schema.procedure, schema.candidate
    query = sa.select(candidate.c.name, named_now(table.c.name).label("step"), table.c.why_ended, table.c.facts).join(
        candidate, candidate.c.id == table.c.candidate_id
    )
    ends: dict[str, Ends] = {}
    with record.reading() as connection:
        for row in connection.execute(query.where(table.c.superseded_at.is_(None)).order_by(table.c.id)):
            ends.setdefault(row.name, {})[row.step] = (row.why_ended, facts_now(row.facts))
    return ends


def capacity_found(plan: dict[str, Any], ended: Ends) -> Capacity | None:
    """What the search for capacity found; None: it was not made.

    Parameters
    ----------
    plan : dict
        The candidate's ``[speed.open_loop]``.
    ended : Ends
        Its procedures.
    """
    if "open_loop" not in ended:
        return None
    why, facts = ended["open_loop"]
    holds = facts.get("capacity_rps")
    each = plan.get("requests_per_engineer_hour")
    return Capacity(
        holds_rps=holds,
        fails_rps=facts.get("fails_at_rps"),
        engineers=int(holds * 3600 / each) if holds is not None and each else None,
        tries=tuple(facts.get("tries", ())),
        why_ended=why,
        disturbed=_disturbed_at(facts),
    )


def _disturbed_at(facts: dict[str, Any]) -> str:
    """What the host was busy with at the lowest rate that did not hold."""
    tries: list[dict[str, Any]] = facts.get("tries", [])
    said = (one.get("disturbed") for one in tries if one.get("rate_rps") == facts.get("fails_at_rps"))
    return next(said, None) or ""


def loads_of(record: Record) -> dict[str, tuple[Load, ...]]:
    """Every timed start of each candidate's server, in the order of the record."""
    return record.once("loads_of", lambda: _read_loads_of(record))


def _read_loads_of(record: Record) -> dict[str, tuple[Load, ...]]:
    table, candidate = schema.session, schema.candidate
    query = sa.select(
        candidate.c.name,
        candidate.c.weights_bytes,
        *(table.c[name] for name in ("load_kind", "load_s", "first_answer_s", "load_disturbed")),
    ).join(candidate, candidate.c.id == table.c.candidate_id)
    sessions: dict[str, list[Any]] = {}
    with record.reading() as connection:
        for row in connection.execute(query.where(table.c.load_s.is_not(None)).order_by(table.c.id)):
            sessions.setdefault(row.name, []).append(row)
    return {name: tuple(_load(row, rows) for row in rows) for name, rows in sessions.items()}


def _load(row: Any, rows: list[Any]) -> Load:
    # a load without reading is timed too: what the cold one takes beyond it is reading
    bare_s = min((other.load_s for other in rows if other.load_kind == "warm"), default=None)
    reads = row.load_kind == "cold" and bare_s is not None and row.load_s - bare_s >= MOSTLY * row.load_s
    return Load(
        kind=row.load_kind,
        load_s=row.load_s,
        first_answer_s=row.first_answer_s,
        bytes_s=row.weights_bytes / row.load_s if reads and row.weights_bytes else None,
        disturbed=row.load_disturbed,
    )


def floor_depth(known: pd.DataFrame, floor_tps: float) -> float | None:
    """The depth in tokens at which decoding falls below a floor; None: nowhere that was tried, or there is none.

    Parameters
    ----------
    known : data frame
        Requests of the depth procedure: columns point, prompt_tokens, decode_tps, none of them missing.
    floor_tps : float
        In tokens/s; 0: none.
    """
    if not floor_tps or known.empty:
        return None
    middles = known["decode_tps"].groupby(depth_tokens(known)).median()
    return crossing(list(middles.index), list(middles), floor_tps)


class Floor(msgspec.Struct, frozen=True):
    """None: the campaign ran without a calibration."""

    seconds: float | None

    def show(self, figure: Estimate | float | None) -> str:
        """A duration, or ``< floor`` with the floor."""
        value = figure.value if isinstance(figure, Estimate) else figure
        if value is not None and self.seconds is not None and value < self.seconds:
            return f"< {format_duration(self.seconds)}"
        return with_interval(figure, Unit.SECONDS) if isinstance(figure, Estimate) else in_unit(figure, Unit.SECONDS)

    def words(self) -> str:
        """What a reader should know of it."""
        if self.seconds is None:
            return "The stopwatch was not calibrated on this rig: run `kettlefield calibrate` before the next campaign."
        return f"The stopwatch's own error on this rig: up to {format_duration(self.seconds)} (99 of 100 events)."


def floor_of(record: Record) -> Floor:
    """The floor of a campaign, of several rigs the highest: the 99th percentile of the error with one stream."""
    rigs = [one.facts for one in rig_rows(record)] or [campaign_facts(record)["rig"]]
    floors = [float(facts["calibration"]["floor_s"]) for facts in rigs if facts.get("calibration")]
    return Floor(max(floors) if len(floors) == len(rigs) else None)
