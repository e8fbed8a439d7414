"""What an approval holds for: what the plan says, and what the campaign measured under."""

import json
from typing import Any

import pandas as pd
import sqlalchemy as sa

from kettlefield.analysis.limits import Ends, capacity_found, floor_depth, procedure_ends
from kettlefield.analysis.timing import timed_frame, undisturbed
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
    timed, ends = timed_frame(record), procedure_ends(record)
    deep = undisturbed(timed[timed["purpose"] == "depth"]).dropna(subset=["prompt_tokens", "decode_rate_tps"])
    table = schema.candidate
    with record.reading() as connection:
        rows = list(connection.execute(sa.select(table.c.name, table.c.settings).order_by(table.c.id)))
    return {
        row.name: (
            *stated,
            *_measured_under(json.loads(row.settings), deep[deep["candidate"] == row.name], ends.get(row.name, {})),
        )
        for row in rows
    }


def _measured_under(settings: dict[str, Any], deep: pd.DataFrame, ends: Ends) -> tuple[str, ...]:
    server, speed = settings.get("server", {}), settings.get("speed", {})
    found = []
    if "context" in server:
        slots = server.get("slots", 1)
        at_once = f", {slots} requests at once" if slots > 1 else ""
        cache = f", cache at {server['cache_bits']} bits" if "cache_bits" in server else ""
        found.append(f"context at most {server['context']:,} tokens{cache}{at_once}")
    floor_tps = float(speed.get("depth", {}).get("floor", 0.0))
    depth = floor_depth(deep, floor_tps)
    if depth is not None:
        found.append(f"beyond {depth:,.0f} tokens of context decoding falls below {floor_tps:g} tokens/s")
    capacity = capacity_found(speed.get("arrivals", {}), ends)
    if capacity is not None and capacity.holds_rps:
        serves = f", some {capacity.engineers} engineers" if capacity.engineers is not None else ""
        found.append(f"at most {capacity.holds_rps:.3g} requests/s{serves}")
    return tuple(found)
