"""Arrival stamps of one reply -> the figures that the design defines, each with its unit."""

from collections.abc import Sequence
from enum import StrEnum

import msgspec
import numpy as np


class TokenCount(StrEnum):
    """Where a number of tokens comes from."""

    USAGE = "usage"  # the server's own count
    EVENTS = "events"  # no usage was sent: text events counted instead, and marked as such


class Trace(msgspec.Struct, frozen=True, kw_only=True):
    """What the stopwatch saw of one request; every time is in seconds after the request was written."""

    stamps_s: tuple[float, ...]  # arrival of each event with non-empty text, thinking included
    thinking: tuple[bool, ...]  # for each stamp: was it thinking text?
    finished_s: float  # the stream ended
    prompt_tokens: int | None = None  # from usage
    completion_tokens: int | None = None  # from usage, thinking included


class Figures(msgspec.Struct, frozen=True, kw_only=True):
    """Figures of one request; None where the trace does not hold enough to say."""

    ttft_s: float | None  # request written -> first event with text
    answer_ttft_s: float | None  # the same, thinking set aside
    finished_s: float  # request written -> end of the stream
    prompt_tokens: int | None
    completion_tokens: int  # thinking included
    token_count: TokenCount
    events: int  # with text, as the stopwatch counted them
    thinking_tokens: int  # of completion_tokens, by the share of events that were thinking
    packed: bool  # the server put several tokens in an event: gaps are between events, rates use usage
    decode_tps: float | None  # tokens x (1 - 1 / events) / (last - first), tokens a second
    prefill_tps: float | None  # prompt tokens / ttft_s, tokens a second
    itl_p50_s: float | None
    itl_p95_s: float | None
    itl_p99_s: float | None
    itl_max_s: float | None


def read_figures(trace: Trace) -> Figures:
    """Turn one request's stamps into figures.

    Parameters
    ----------
    trace : Trace
        Stamps in order of arrival; ``thinking`` has one entry for each stamp.

    Raises
    ------
    ValueError
        Stamps and marks differ in number, or stamps run backwards.
    """
    if len(trace.stamps_s) != len(trace.thinking):
        raise ValueError(f"{len(trace.stamps_s)} stamps but {len(trace.thinking)} thinking marks")
    stamps = np.asarray(trace.stamps_s, dtype=float)  # shape (events,), seconds
    gaps = np.diff(stamps)
    if np.any(gaps < 0):
        raise ValueError("stamps run backwards")
    events = len(stamps)
    first = float(stamps[0]) if events else None
    tokens = events if trace.completion_tokens is None else trace.completion_tokens
    span_s = float(stamps[-1] - stamps[0]) if events else 0.0
    gap_s = [quantile(gaps, q) if len(gaps) else None for q in (0.5, 0.95, 0.99, 1.0)]
    return Figures(
        ttft_s=first,
        answer_ttft_s=_first_answer(trace),
        finished_s=trace.finished_s,
        prompt_tokens=trace.prompt_tokens,
        completion_tokens=tokens,
        token_count=TokenCount.EVENTS if trace.completion_tokens is None else TokenCount.USAGE,
        events=events,
        thinking_tokens=round(tokens * sum(trace.thinking) / events) if events else 0,
        packed=0 < events < tokens,
        # the first event's tokens came before the clock; with one token an event this is (tokens - 1) / (last - first)
        decode_tps=tokens * (1 - 1 / events) / span_s if tokens > 1 and span_s > 0 else None,
        prefill_tps=trace.prompt_tokens / first if trace.prompt_tokens and first else None,
        itl_p50_s=gap_s[0],
        itl_p95_s=gap_s[1],
        itl_p99_s=gap_s[2],
        itl_max_s=gap_s[3],
    )


def quantile(values: Sequence[float] | np.ndarray, q: float) -> float:
    """The ``q`` quantile of the values, interpolated linearly between order statistics.

    Parameters
    ----------
    values : sequence of float, shape (n,), n >= 1
        In any unit; the result has the same one.
    q : float
        Within [0, 1]; 0.95 is p95.

    Raises
    ------
    ValueError
        There is no value, or ``q`` is out of range.

    Source
    ------
    Definition 7 of Hyndman and Fan (1996), The American Statistician 50, 361-365; NumPy's default.
    """
    if len(values) == 0:
        raise ValueError("no value to take a quantile of")
    return float(np.quantile(np.asarray(values, dtype=float), q, method="linear"))


def _first_answer(trace: Trace) -> float | None:
    for stamp_s, thinking in zip(trace.stamps_s, trace.thinking, strict=True):
        if not thinking:
            return stamp_s
    return None
