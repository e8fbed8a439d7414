"""Slopes, drifts, growth exponents and roots: how a figure changes with depth, time or size."""

from collections.abc import Sequence
from enum import StrEnum

import msgspec
import numpy as np
import scipy  # its parts are loaded when they are first used

from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.timing.timeline import quantile

DRIFT_P = 0.01  # a drift counts when chance alone gives one so large in fewer than 1 of 100 series
LEAST_THIRD = 4  # samples in a third, before anything is said of it
DRIFT_LEAST = 0.05  # of the first third's median: less is of no account
LEAST_FOR_RATIO = 4
RESAMPLES = 2000


def slope(x: Sequence[float], y: Sequence[float], *, confidence: float = 0.95) -> Estimate | None:
    """How much y changes for one more of x.

    Parameters
    ----------
    x, y : sequence of float, shape (n,)
        Pairs; the result is in units of y per unit of x.
    confidence : float
        Two-sided, within (0, 1).

    Returns
    -------
    Estimate or None
        None with fewer than three pairs or one x only.

    Source
    ------
    Theil-Sen: the median of all pairwise slopes, with the interval of Sen (1968), J. Amer. Stat. Assoc. 63,
    1379-1389. A few disturbed samples do not bend it. The variance of Kendall's S is that with ties in both, Kendall
    (1970), Rank Correlation Methods, section 4.10: figures that repeat at points that repeat are common here.
    """
    if len(x) < 3 or len(set(x)) < 2:
        return None
    across, up = np.asarray(x, dtype=float), np.asarray(y, dtype=float)
    earlier, later = np.nonzero(across[:, None] < across[None, :])
    slopes = np.sort((up[later] - up[earlier]) / (across[later] - across[earlier]))
    reach = scipy.stats.norm.ppf((1 + confidence) / 2) * variance_of_s(across, up) ** 0.5
    first = max(round((len(slopes) - reach) / 2) - 1, 0)
    last = min(round((len(slopes) + reach) / 2), len(slopes) - 1)
    return Estimate(value=float(np.median(slopes)), low=float(slopes[first]), high=float(slopes[last]), n=len(x))


def variance_of_s(x: np.ndarray, y: np.ndarray) -> float:
    """The variance of Kendall's S where nothing but chance pairs x with y, whichever of their values are equal.

    Parameters
    ----------
    x, y : array of float, shape (n,), n >= 3
        The values.
    """
    n = len(x)
    tied_x, tied_y = (np.unique(values, return_counts=True)[1] for values in (x, y))
    single = n * (n - 1) * (2 * n + 5) - sum(np.sum(k * (k - 1) * (2 * k + 5)) for k in (tied_x, tied_y))
    triples = np.sum(tied_x * (tied_x - 1) * (tied_x - 2)) * np.sum(tied_y * (tied_y - 1) * (tied_y - 2))
    pairs = np.sum(tied_x * (tied_x - 1)) * np.sum(tied_y * (tied_y - 1))
    both = triples / (9 * n * (n - 1) * (n - 2)) + pairs / (2 * n * (n - 1))
    return max(0.0, float(single / 18 + both))


def crossing(x: Sequence[float], y: Sequence[float], floor: float) -> float | None:
    """The x at which y, falling, first lies below a floor: along straight lines between points; None: nowhere.

    Parameters
    ----------
    x, y : sequence of float, shape (n,)
        Points with rising x.
    floor : float
        In the unit of y.
    """
    for index, value in enumerate(y):
        if value < floor:
            if index == 0:
                return float(x[0])
            before = y[index - 1]
            share = (before - floor) / (before - value)
            return float(x[index - 1] + share * (x[index] - x[index - 1]))
    return None


def drift(values: Sequence[float]) -> float | None:
    """The last third of a series against its first, as a ratio of medians; None where no drift is significant: one that
    chance may give, or of less than a twentieth.

    Source
    ------
    Mann and Whitney (1947), Ann. Math. Stat. 18, 50-60, two-sided, at 1 %.
    """
    third = len(values) // 3
    if third < LEAST_THIRD:
        return None
    first, last = list(values[:third]), list(values[-third:])
    middle = quantile(first, 0.5)
    ratio = quantile(last, 0.5) / middle if middle else 1.0
    if abs(ratio - 1) < DRIFT_LEAST:
        return None
    return ratio if scipy.stats.mannwhitneyu(first, last).pvalue < DRIFT_P else None


def median_ratio(
    points: Sequence[tuple[Sequence[float], Sequence[float]]], *, confidence: float = 0.95
) -> Estimate | None:
    """How many times a reference's median the median of values is: the geometric mean over shared points.

    Parameters
    ----------
    points : sequence of (values, reference)
        In the same unit, above 0; each side of each point is drawn from on its own.
    confidence : float
        Two-sided, within (0, 1).

    Returns
    -------
    Estimate or None
        ``n`` is the number of values; None without a point that has at least four on either side.

    Source
    ------
    Percentile bootstrap within strata (Efron and Tibshirani 1993, chapters 8 and 13), seeded. For the eye
    only: no criterion rests on it.
    """
    known = [pair for pair in points if min(map(len, pair)) >= LEAST_FOR_RATIO]
    if not known:
        return None
    rng = np.random.default_rng(1)
    value, drawn = 0.0, np.zeros(RESAMPLES)
    for values, reference in known:
        a, b = np.asarray(values, dtype=float), np.asarray(reference, dtype=float)
        value += float(np.log(np.median(a) / np.median(b))) / len(known)
        tops, bottoms = (np.median(rng.choice(side, (RESAMPLES, len(side))), axis=1) for side in (a, b))
        drawn += np.log(tops / bottoms) / len(known)
    tail = (1 - confidence) / 2
    low, high = np.exp(np.quantile(drawn, [tail, 1 - tail]))
    return Estimate(value=float(np.exp(value)), low=float(low), high=float(high), n=sum(len(a) for a, _ in known))


MIN_COST = 1e-3  # seconds: less than this cannot be told from the start of a process; bytes never come near it


class Ruling(StrEnum):
    """What an interval says of a limit."""

    WITHIN = "within"
    BEYOND = "beyond"
    UNDECIDED = "undecided"


class Slope(msgspec.Struct, frozen=True, kw_only=True):
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
    x = np.log(np.asarray(sizes, dtype=float))
    y = np.log(np.maximum(np.asarray(costs, dtype=float), MIN_COST))
    fit = scipy.stats.linregress(x, y)
    error = float(np.nan_to_num(fit.stderr))  # equal costs leave nothing to estimate it from: it is none
    half = float(scipy.special.stdtrit(len(sizes) - 2, 0.5 + confidence / 2)) * error
    slope = float(fit.slope)
    return Slope(value=slope, low=slope - half, high=slope + half)


def ratio_of_pairs(measured: Sequence[float], baseline: Sequence[float], *, confidence: float = 0.9) -> Slope:
    """The ratio of two costs measured side by side, from the mean of their log ratios.

    Parameters
    ----------
    measured, baseline : sequence of float
        Costs of the same rounds, above 0, at least two rounds.
    confidence : float
        Of the two-sided interval.

    Raises
    ------
    ValueError
        Too few rounds.
    """
    if len(measured) != len(baseline) or len(measured) < 2:
        raise ValueError(f"{len(measured)} and {len(baseline)} costs: wanted as many of each, at least 2")
    logs = np.log(np.maximum(measured, MIN_COST)) - np.log(np.maximum(baseline, MIN_COST))
    mean, error = float(np.mean(logs)), float(np.std(logs, ddof=1) / np.sqrt(len(logs)))
    half = float(scipy.special.stdtrit(len(logs) - 1, 0.5 + confidence / 2)) * error
    return Slope(value=float(np.exp(mean)), low=float(np.exp(mean - half)), high=float(np.exp(mean + half)))
