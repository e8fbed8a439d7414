"""What figures are drawn of beyond the tables: memory over time, events of the grid, requests at each depth."""

from collections.abc import Mapping

import numpy as np
import pandas as pd
import sqlalchemy as sa

from kettlefield.record import schema
from kettlefield.record.packing import unpack_series, unpack_stamps
from kettlefield.record.store import Record
from kettlefield.results.frames import depth_tokens
from kettlefield.results.speed import undisturbed

MOST_REQUESTS = 400  # of a candidate whose gaps are unpacked: enough for a distribution


def memory_series(record: Record) -> pd.DataFrame:
    """Memory of each candidate's longest session that is not a cold start.

    Returns
    -------
    data frame
        Columns candidate, at_s (since the first sample), total_bytes (host and accelerator), phase; in order.
    """
    block, session, candidate = schema.memory_block, schema.session, schema.candidate
    query = (
        sa.select(candidate.c.name, session.c.id, block.c.phase, block.c.samples, block.c.series)
        .join(session, session.c.id == block.c.session_id)
        .join(candidate, candidate.c.id == session.c.candidate_id)
        .where(session.c.load_kind != "cold", block.c.samples > 0, block.c.superseded_at.is_(None))
        .order_by(block.c.id)
    )
    with record.reading() as connection:
        blocks = pd.read_sql_query(query, connection)
    parts = []
    for name, of_candidate in blocks.groupby("name", sort=False):
        longest = of_candidate.groupby("id")["samples"].sum().idxmax()
        begun_s = 0.0
        for row in of_candidate[of_candidate["id"] == longest].to_dict("records"):
            if not row["series"]:
                continue
            table = unpack_series(row["series"])
            at_s = begun_s + table[:, 0] / 1e6
            begun_s = float(at_s[-1])
            parts.append(
                pd.DataFrame({
                    "candidate": name,
                    "at_s": at_s,
                    "total_bytes": table[:, 1] + table[:, 2],
                    "phase": row["phase"],
                })
            )  # fmt: skip
    columns = ["candidate", "at_s", "total_bytes", "phase"]
    return pd.concat(parts, ignore_index=True) if parts else pd.DataFrame(columns=columns)


def grid_samples(timed: pd.DataFrame) -> tuple[Mapping[str, list[float]], Mapping[str, list[float]]]:
    """First tokens, and gaps between events, of every candidate's undisturbed requests of the grid, in seconds."""
    firsts, gaps = {}, {}
    for name, of_candidate in timed[timed["purpose"] == "latency"].groupby("candidate", sort=False):
        grid = undisturbed(of_candidate)
        firsts[str(name)] = [float(value) for value in grid["ttft_s"].dropna()]
        stamps = [np.diff(unpack_stamps(blob)[0]) for blob in grid["stamps"].head(MOST_REQUESTS)]
        gaps[str(name)] = [float(gap) for gap in np.concatenate(stamps or [np.empty(0)])]
    return firsts, gaps


def depth_samples(timed: pd.DataFrame) -> pd.DataFrame:
    """One row a request of the depth procedure: candidate, depth_tokens (as the server counts), decode_tps."""
    parts = []
    for _, of_candidate in timed[timed["purpose"] == "depth"].groupby("candidate", sort=False):
        known = undisturbed(of_candidate).dropna(subset=["prompt_tokens", "decode_tps"])
        parts.append(known.assign(depth_tokens=depth_tokens(known) if len(known) else []))
    columns = ["candidate", "depth_tokens", "decode_tps"]
    return pd.concat(parts)[columns] if parts else pd.DataFrame(columns=columns)
