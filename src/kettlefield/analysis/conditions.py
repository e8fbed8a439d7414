"""What an approval holds for: what the plan says, and what the campaign measured under."""

import json
from typing import Any

import sqlalchemy as sa

from kettlefield.analysis.timing import Timing, timings
from kettlefield.record import schema
from kettlefield.record.store import Record


def conditions_of(record: Record, stated: tuple[str, ...]) -> dict[str, tuple[str, ...]]:
    """For each candidate the conditions under which its verdict holds, in words.

    Parameters
    ----------
    record : Record
        An open record.
    stated : tuple of str
        Those that the plan states.
    """
    timed = {one.candidate: one for one in timings(record)}
    table = schema.candidate
    with record.reading() as connection:
        rows = connection.execute(sa.select(table.c.name, table.c.settings).order_by(table.c.id))
        settings = {row.name: json.loads(row.settings) for row in rows}
    return {name: (*stated, *_measured_under(settings[name], timed[name])) for name in settings}


def _measured_under(settings: dict[str, Any], timing: Timing) -> tuple[str, ...]:
    server = settings.get("server", {})
    found = []
    if "context" in server:
        slots = server.get("slots", 1)
        at_once = f", {slots} requests at once" if slots > 1 else ""
        found.append(f"context at most {server['context']:,} tokens, cache at {server['cache_bits']} bits{at_once}")
    depth = timing.depth
    if depth.floor_depth_tokens is not None:
        deep = f"{depth.floor_depth_tokens:,.0f} tokens of context"
        found.append(f"beyond {deep} decoding falls below {depth.floor_tps:g} tokens/s")
    capacity = timing.capacity
    if capacity is not None and capacity.holds_rps:
        serves = f", some {capacity.engineers} engineers" if capacity.engineers is not None else ""
        found.append(f"at most {capacity.holds_rps:.3g} requests/s{serves}")
    return tuple(found)
