"""What the timing procedures found of each candidate: grid, depth, clients, capacity, cache, loads."""

import json
from collections.abc import Callable, Iterable
from typing import Any

import msgspec
import numpy as np
import pandas as pd
import sqlalchemy as sa

from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.intervals import quantile_interval
from kettlefield.core.statistics.trends import drift, median_ratio, slope
from kettlefield.core.timing.timeline import TokenCount, quantile
from kettlefield.core.timing.usable import Sample, Usable, usable
from kettlefield.record import schema
from kettlefield.record.earlier import facts_now, named_now
from kettlefield.record.packing import unpack_stamps
from kettlefield.record.store import Record
from kettlefield.results.capacity import Capacity, Ends, Load, capacity_found, floor_depth, loads_of, procedure_ends
from kettlefield.results.frames import depth_tokens
from kettlefield.results.rows import candidate_rows, references_of

TIMED = ("latency", "depth", "system", "uncached", "cached", "closed_loop", "open_loop", "leak")


class Cell(msgspec.Struct, frozen=True, kw_only=True):
    """Equal requests together; times in seconds, rates in tokens/s; None was not measured."""

    label: str  # of the point: "1,024 tokens deep", "4 clients"
    n: int
    disturbed: int  # of them marked; left out of the figures
    doubt: str  # why what is left makes no figure that can be relied on; empty: it does
    ttft_s: Estimate | None  # median
    ttft_p95_s: float | None
    decode_tps: Estimate | None  # median
    decode_p10_tps: float | None
    prefill_tps: float | None  # median
    prompt_tokens: float | None  # median, as the server counts


class InterTokenLatency(msgspec.Struct, frozen=True, kw_only=True):
    """Quantiles of the gaps between events over all requests of the grid, in seconds."""

    p50_s: float
    p95_s: float
    p99_s: float
    max_s: float
    n: int
    packed: bool  # several tokens an event: gaps are between events


class Depth(msgspec.Struct, frozen=True, kw_only=True):
    """How the context's depth tells on speed."""

    cells: tuple[Cell, ...]
    slope_tps: Estimate | None  # change of the decode rate for every 1,000 tokens deeper
    floor_tps: float  # the plan's; 0: none
    floor_depth_tokens: float | None  # where decoding falls below it; None: nowhere that was tried
    past_window: str | None


class ClosedLoop(msgspec.Struct, frozen=True, kw_only=True):
    """A closed loop with several clients."""

    cells: tuple[Cell, ...]
    rates_tps: tuple[float | None, ...]  # of all clients together, for each cell; None: a request was disturbed
    saturation_concurrency: int | None  # None: not reached, or a request was disturbed


class Timing(msgspec.Struct, frozen=True, kw_only=True):
    """All of one candidate."""

    candidate: str
    latency: tuple[Cell, ...]
    itl: InterTokenLatency | None
    drift: float | None  # decode rate of the last third over that of the first; None: no significant drift
    depth: Depth
    system: tuple[Cell, ...]
    prompt_cache: tuple[Cell, ...]
    prompt_cache_ratio: Estimate | None  # first token cached over uncached
    closed_loop: ClosedLoop
    capacity: Capacity | None
    loads: tuple[Load, ...]
    ended: dict[str, str]  # procedure -> why it ended
    without_usage: int  # timed requests whose tokens the server did not count
    odd_usage: int  # whose count is below the number of events with text
    short_replies: int  # timed requests of the grid whose reply ended before the length asked for
    ttft_ratio: Estimate | None  # to the reference level's, shared points
    decode_ratio: Estimate | None


def timed_frame(record: Record) -> pd.DataFrame:
    """One row a timed request, faults left out; ``point`` is decoded, ``stamps`` packed as in the record."""
    return record.once("timed_frame", lambda: _read_timed_frame(record))


def _read_timed_frame(record: Record) -> pd.DataFrame:
    exchange, candidate = schema.exchange, schema.candidate
    purpose = named_now(exchange.c.purpose)
    figures = ("ttft_s", "decode_tps", "prefill_tps", "prompt_tokens", "completion_tokens", "events")
    query = (
        sa.select(
            candidate.c.name.label("candidate"),
            candidate.c.model,
            candidate.c.reference,
            *(exchange.c[name] for name in figures),
            purpose.label("purpose"),
            *(exchange.c[name] for name in ("point", "disturbed", "concurrency", "scheduled_lag_s")),
            *(exchange.c[name] for name in ("token_count", "packed", "memory_bytes", "stamps")),
            exchange.c.session_id.label("session"),
        )
        .join(candidate, candidate.c.id == exchange.c.candidate_id)
        .where(purpose.in_(TIMED), exchange.c.fault.is_(None), exchange.c.superseded_at.is_(None))
        .order_by(exchange.c.id)
    )
    with record.reading() as connection:
        frame = pd.read_sql_query(query, connection)
    points: list[Any] = [facts_now(text) for text in frame["point"]]
    return frame.assign(point=points)


def undisturbed(frame: pd.DataFrame) -> pd.DataFrame:
    """The samples that nothing disturbed."""
    return frame[frame["disturbed"].isna()]


def usable_of(frame: pd.DataFrame, field: str) -> Usable:
    """The samples of one field that may make a figure; those of each point are judged by themselves.

    Parameters
    ----------
    frame : data frame
        Timed requests: columns point, session, disturbed and the field.
    field : str
        A figure of a request.
    """
    known = frame[frame[field].notna()]
    parts = [usable(_samples(group, field)) for _, group in _by_point(known)]
    doubt = next((part.doubt for part in parts if part.doubt), "")
    return Usable(values=tuple(value for part in parts for value in part.values), doubt=doubt)


def _samples(group: pd.DataFrame, field: str) -> list[Sample]:
    columns = (group[name] for name in (field, "session", "disturbed"))
    return [
        Sample(value=float(value), session=int(session), disturbed=None if pd.isna(why) else str(why))
        for value, session, why in zip(*columns, strict=True)
    ]


GUESSED = "guessed: the server does not count prompt tokens, so how deep it was is not known"


DEPTH_SLACK = 0.1  # of the depth that was wanted: prompts are this near to it, or it is another depth


def off_depth(frame: pd.DataFrame) -> str:
    """Why requests of one depth are not at it, as the server counts; empty: they are, or nothing counts."""
    depth = _counted_depth(frame)
    if depth is None:
        return ""
    wanted = frame["point"].iloc[0]["depth_tokens"]
    if abs(depth - wanted) <= DEPTH_SLACK * wanted:
        return ""
    return f"not at that depth: the server counts {depth:,.0f} prompt tokens"


def _counted_depth(frame: pd.DataFrame) -> float | None:
    if not len(frame) or "depth_tokens" not in frame["point"].iloc[0]:
        return None
    counted = frame["prompt_tokens"].dropna()
    return float(counted.median()) if len(counted) else None


def is_guessed(frame: pd.DataFrame) -> bool:
    """Whether the prompt lengths of some timed requests are guesses."""
    return any(point.get("guessed") for point in frame["point"])


def timings(record: Record) -> tuple[Timing, ...]:
    """Every candidate's timing, in the order of the record."""
    return record.once("timings", lambda: _read_timings(record))


def _read_timings(record: Record) -> tuple[Timing, ...]:
    timed, ended, loads = timed_frame(record), procedure_ends(record), loads_of(record)
    candidates = candidate_rows(record)
    references = references_of(candidates)
    rows = []
    for entry in candidates:
        name, speed = entry.name, entry.settings["speed"]
        mine = timed[timed["candidate"] == name]
        other = timed[timed["candidate"] == references.get(entry.model)]
        rows.append(_timing(name, speed, mine, other, ended.get(name, {}), loads.get(name, ())))
    return tuple(rows)


def _timing(
    name: str,
    speed: dict[str, Any],
    mine: pd.DataFrame,
    other: pd.DataFrame,
    ended: Ends,
    loads: tuple[Load, ...],
) -> Timing:
    by = {purpose: mine[mine["purpose"] == purpose] for purpose in TIMED}
    same = other[other["purpose"] == "latency"]
    grid = undisturbed(by["latency"])
    doubtful = bool(usable_of(by["latency"], "ttft_s").doubt)
    counted = mine["token_count"] == TokenCount.USAGE.value
    is_reference = bool(len(other)) and bool(len(mine)) and other["candidate"].iloc[0] == name

    def ratio(field: str) -> Estimate | None:
        return None if is_reference else median_ratio(shared_points(grid, undisturbed(same), field))

    return Timing(
        candidate=name,
        latency=_cells(by["latency"], _grid_label),
        itl=None if doubtful else _inter_token(grid),
        drift=None if doubtful else drift(_levelled(grid, "decode_tps")),
        depth=_depth(by["depth"], speed.get("depth", {}), ended),
        system=_cells(by["system"], lambda point: "the first" if point["first"] else "later ones"),
        prompt_cache=(
            *_cells(by["uncached"], lambda _: "a new prompt"),
            *_cells(by["cached"], lambda _: "the same again"),
        ),
        prompt_cache_ratio=median_ratio([(_ttfts(by["cached"]), _ttfts(by["uncached"]))]),
        closed_loop=_closed_loop(by["closed_loop"], ended),
        capacity=capacity_found(speed.get("open_loop", {}), ended),
        loads=loads,
        ended={step: why for step, (why, _) in ended.items()},
        without_usage=int((~counted).sum()),
        odd_usage=int((counted & (mine["completion_tokens"] < mine["events"])).sum()),
        short_replies=_short(by["latency"]),
        ttft_ratio=ratio("ttft_s"),
        decode_ratio=ratio("decode_tps"),
    )


def _ttfts(frame: pd.DataFrame) -> list[float]:
    return list(undisturbed(frame)["ttft_s"].dropna())


def shared_points(mine: pd.DataFrame, other: pd.DataFrame, field: str) -> list[tuple[list[float], list[float]]]:
    """The figures of both sides at each point that both were timed at.

    Parameters
    ----------
    mine, other : data frame
        Columns ``point`` and the field.
    field : str
        A figure of a request.
    """
    sides = [{name: list(group[field].dropna()) for name, group in _by_point(side)} for side in (mine, other)]
    return [(values, sides[1][name]) for name, values in sides[0].items() if name in sides[1]]


def _levelled(frame: pd.DataFrame, field: str) -> list[float]:
    """A figure over the median of its point, in the order of the requests: points that differ are not drift."""
    parts = [group[field].dropna() / group[field].median() for _, group in _by_point(frame)]
    return list(pd.concat(parts).sort_index()) if parts else []


def _by_point(frame: pd.DataFrame) -> Iterable[tuple[str, pd.DataFrame]]:
    names = frame["point"].map(lambda point: json.dumps(point, sort_keys=True))
    return [(str(name), frame[names == name]) for name in names.unique()]


def _cells(frame: pd.DataFrame, label: Callable[[dict[str, Any]], str]) -> tuple[Cell, ...]:
    """Requests of the same point together, in the order of their first."""
    labels = frame["point"].map(label)
    return tuple(_cell(str(name), frame[labels == name]) for name in labels.unique())


def _cell(label: str, frame: pd.DataFrame) -> Cell:
    lagged = frame.assign(ttft_s=frame["ttft_s"] + frame["scheduled_lag_s"].fillna(0.0))
    first, paced = usable_of(lagged, "ttft_s"), usable_of(frame, "decode_tps")
    firsts, rates = list(first.values), list(paced.values)
    clean = undisturbed(frame)
    depth = _counted_depth(frame)
    return Cell(
        label=label + (f" ({depth:,.0f} counted)" if depth is not None and off_depth(frame) else ""),
        n=len(frame),
        disturbed=int(frame["disturbed"].notna().sum()),
        doubt=first.doubt or paced.doubt,
        ttft_s=quantile_interval(firsts, 0.5) if firsts else None,
        ttft_p95_s=quantile(firsts, 0.95) if firsts else None,
        decode_tps=quantile_interval(rates, 0.5) if rates else None,
        decode_p10_tps=quantile(rates, 0.1) if rates else None,
        prefill_tps=_median(clean["prefill_tps"]),
        prompt_tokens=_median(frame["prompt_tokens"]),  # a count is not disturbed
    )


def _depth_label(point: dict[str, Any]) -> str:
    return f"{point['depth_tokens']:,} tokens" + (" (guessed)" if point.get("guessed") else "")


def _grid_label(point: dict[str, Any]) -> str:
    prompt, reply = point.get("prompt_tokens"), point.get("reply_tokens")
    return f"{'suite prompts' if prompt is None else f'{prompt:,} tokens in'}, {reply:,} out" if reply else "as asked"


def _short(frame: pd.DataFrame) -> int:
    wanted = frame["point"].map(lambda point: point.get("reply_tokens") or 0)
    return int((frame["completion_tokens"] < wanted).sum())


def _inter_token(frame: pd.DataFrame) -> InterTokenLatency | None:
    gaps = np.concatenate([np.diff(unpack_stamps(blob)[0]) for blob in frame["stamps"]] or [np.empty(0)])
    if not len(gaps):
        return None
    p50, p95, p99, most = (quantile(gaps, q) for q in (0.5, 0.95, 0.99, 1.0))
    return InterTokenLatency(
        p50_s=p50, p95_s=p95, p99_s=p99, max_s=most, n=len(gaps), packed=bool(frame["packed"].any())
    )


def _depth(frame: pd.DataFrame, plan: dict[str, Any], ended: Ends) -> Depth:
    clean = undisturbed(frame)
    known = clean[clean["prompt_tokens"].notna() & clean["decode_tps"].notna()]
    # requests of one depth differ by a few tokens, which is not a difference in depth
    depths = depth_tokens(known)
    per_token = slope(list(depths / 1000), list(known["decode_tps"]))
    floor = float(plan.get("floor", 0.0))
    _, facts = ended.get("past-window", ("", {}))
    return Depth(
        cells=_cells(frame, _depth_label),
        slope_tps=per_token,
        floor_tps=floor,
        floor_depth_tokens=floor_depth(known, floor),
        past_window=facts.get("behaviour"),
    )


def _closed_loop(frame: pd.DataFrame, ended: Ends) -> ClosedLoop:
    _, facts = ended.get("closed_loop", ("", {}))
    rates = {entry["concurrency"]: entry["rate_tps"] for entry in facts.get("counts", [])}
    cells = _cells(frame, lambda point: str(point["concurrency"]))
    # a rate of all together holds every moment, those in which something else kept the host busy too
    return ClosedLoop(
        cells=cells,
        rates_tps=tuple(None if cell.disturbed else rates.get(int(cell.label)) for cell in cells),
        saturation_concurrency=None if any(cell.disturbed for cell in cells) else facts.get("saturation_concurrency"),
    )


def _median(values: Iterable[float]) -> float | None:
    known = [float(value) for value in pd.Series(values).dropna()]
    return quantile(known, 0.5) if known else None
