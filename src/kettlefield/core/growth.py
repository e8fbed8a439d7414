"""How cost grows with size: the exponent of a power law, with its interval, and what it says of a limit."""

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np
from scipy import special

MIN_COST = 1e-3  # seconds: less than this cannot be told from the start of a process; bytes never come near it


class Ruling(StrEnum):
    """What an interval says of a limit."""

    WITHIN = "within"
    BEYOND = "beyond"
    UNDECIDED = "undecided"


@dataclass(frozen=True, slots=True, kw_only=True)
class Slope:
    """An estimate with its interval."""

    value: float
    low: float
    high: float

    def rule(self, limit: float) -> Ruling:
        """Within when the interval's upper end is below the limit, beyond when its lower end is not."""
        if self.high < limit:
            return Ruling.WITHIN
        return Ruling.BEYOND if self.low >= limit else Ruling.UNDECIDED


def fit_exponent(sizes: Sequence[float], costs: Sequence[float], *, confidence: float = 0.9) -> Slope:
    """The exponent b of cost = a * size^b, by least squares on logarithms.

    Parameters
    ----------
    sizes : sequence of float
        Input sizes, above 0, of at least two different values; at least three points.
    costs : sequence of float
        Cost at each size (seconds or bytes, less what a start costs); values not above 0 count as ``MIN_COST``.
    confidence : float
        Of the two-sided interval.

    Raises
    ------
    ValueError
        Too few points, or all of one size.

    Source
    ------
    Ordinary least squares with Student's t on n - 2 degrees of freedom.
    """
    if len(sizes) != len(costs) or len(sizes) < 3 or len(set(sizes)) < 2 or min(sizes) <= 0:
        raise ValueError(f"sizes={list(sizes)!r}: wanted at least 3 points of 2 sizes above 0, one cost each")
    from scipy import stats  # noqa: PLC0415 - takes more than a second, and few need it

    x = np.log(np.asarray(sizes, dtype=float))
    y = np.log(np.maximum(np.asarray(costs, dtype=float), MIN_COST))
    fit = stats.linregress(x, y)
    error = float(np.nan_to_num(fit.stderr))  # equal costs leave nothing to estimate it from: it is none
    half = float(special.stdtrit(len(sizes) - 2, 0.5 + confidence / 2)) * error
    slope = float(fit.slope)
    return Slope(value=slope, low=slope - half, high=slope + half)


def ratio_of_pairs(found: Sequence[float], baseline: Sequence[float], *, confidence: float = 0.9) -> Slope:
    """The ratio of two costs measured side by side, from the mean of their log ratios.

    Parameters
    ----------
    found, baseline : sequence of float
        Costs of the same rounds, above 0, at least two rounds.
    confidence : float
        Of the two-sided interval.

    Raises
    ------
    ValueError
        Too few rounds.
    """
    if len(found) != len(baseline) or len(found) < 2:
        raise ValueError(f"{len(found)} and {len(baseline)} costs: wanted as many of each, at least 2")
    logs = np.log(np.maximum(found, MIN_COST)) - np.log(np.maximum(baseline, MIN_COST))
    mean, error = float(np.mean(logs)), float(np.std(logs, ddof=1) / np.sqrt(len(logs)))
    half = float(special.stdtrit(len(logs) - 1, 0.5 + confidence / 2)) * error
    return Slope(value=float(np.exp(mean)), low=float(np.exp(mean - half)), high=float(np.exp(mean + half)))
