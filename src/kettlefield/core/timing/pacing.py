"""Arithmetic of the timing procedures: when to stop, when to send, what to try next, where the saturation is."""

import math
from collections.abc import Sequence

import msgspec
import numpy as np

from kettlefield.core.statistics.intervals import quantile_interval
from kettlefield.core.timing.timeline import quantile

SETTLED_WITHIN = 0.15  # of their median: the last three first-token times of a settled server
LEAST_FOR_MEDIAN = 6  # fewest values that bound a median on both sides at 95 %
KNEE_GAIN = 0.10  # more throughput for twice the clients than this is worth having


def is_settled(first_tokens_s: Sequence[float]) -> bool:
    """Whether warm-up is over: the last three times of the same request lie close together.

    Parameters
    ----------
    first_tokens_s : sequence of float
        In the order of the requests, seconds.
    """
    last = list(first_tokens_s)[-3:]
    if len(last) < 3:
        return False
    middle = quantile(last, 0.5)
    return max(abs(value - middle) for value in last) <= SETTLED_WITHIN * middle


def is_precise(values: Sequence[float], fraction: float) -> bool:
    """Whether the 95 % interval of the median lies within a fraction of it on both sides.

    Parameters
    ----------
    values : sequence of float, shape (n,)
        In any unit, above 0.
    fraction : float
        0 or less is never reached.
    """
    if fraction <= 0 or len(values) < LEAST_FOR_MEDIAN:
        return False
    interval = quantile_interval(values, 0.5)
    if interval.low is None or interval.high is None:
        return False
    return max(interval.value - interval.low, interval.high - interval.value) <= fraction * interval.value


def arrival_times(rate_per_s: float, lasting_s: float, seed: int) -> tuple[float, ...]:
    """Moments at which requests of a Poisson process arrive, in seconds from its beginning.

    Parameters
    ----------
    rate_per_s : float
        Requests a second, above 0.
    lasting_s : float
        Length of the process; the result may be empty.
    seed : int
        The same seed, the same moments - at another rate the same ones, stretched.
    """
    rng = np.random.default_rng(seed)
    moments: list[float] = []
    at = 0.0
    while True:
        at += float(rng.exponential(1.0)) / rate_per_s
        if at >= lasting_s:
            return tuple(moments)
        moments.append(at)


class Bracket(msgspec.Struct, frozen=True):
    """What a search for the highest rate that holds knows so far."""

    holds: float | None = None  # highest rate that held
    fails: float | None = None  # lowest rate that did not

    def after(self, rate: float, *, held: bool) -> "Bracket":
        """With one more try."""
        if held:
            return Bracket(max(rate, self.holds or 0.0), self.fails)
        return Bracket(self.holds, min(rate, self.fails or rate))

    def next_rate(self, first: float) -> float | None:
        """What to try next: doubled or halved until both sides are known, then the geometric middle; None when
        the sides lie within a tenth of each other.
        """
        if self.holds is None and self.fails is None:
            return first
        if self.holds is None or self.fails is None:
            return self.holds * 2 if self.holds is not None else (self.fails or first) / 2
        if self.fails <= 1.1 * self.holds:
            return None
        return math.sqrt(self.holds * self.fails)


def window_rate_tps(replies: Sequence[tuple[float, Sequence[float], int]]) -> float | None:
    """Tokens a second of several streams together, from the first request to the last event.

    Parameters
    ----------
    replies : sequence of (sent_s, stamps_s, tokens)
        For each reply when it was asked for, when its events came (both on one clock, seconds) and how many
        tokens they hold together.

    Returns
    -------
    float or None
        None with fewer than two events.
    """
    stamps = np.concatenate([np.asarray(stamps, dtype=float) for _, stamps, _ in replies] or [np.empty(0)])
    if len(stamps) < 2:
        return None
    began = min(sent for sent, _, _ in replies)
    span = float(stamps.max()) - began
    return sum(tokens for _, _, tokens in replies) / span if span > 0 else None


def saturation(counts: Sequence[int], rates_tps: Sequence[float]) -> int | None:
    """The number of clients beyond which more of them bring little: the last worthwhile step.

    Parameters
    ----------
    counts : sequence of int, shape (n,)
        Clients, rising.
    rates_tps : sequence of float, shape (n,)
        Tokens a second of all of them together.

    Returns
    -------
    int or None
        The count before the first step that gains less than a tenth for each doubling; None while every step
        still gained.
    """
    for (low, a), (high, b) in zip(
        zip(counts, rates_tps, strict=True), list(zip(counts, rates_tps, strict=True))[1:], strict=False
    ):
        doublings = float(np.log2(high / low))
        if doublings > 0 and b < a * (1 + KNEE_GAIN) ** doublings:
            return low
    return None
