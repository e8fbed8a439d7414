"""Slopes and drifts: does a figure change with depth, with time, with every request?"""

from collections.abc import Sequence

import numpy as np

from kettlefield.core.estimate import Estimate
from kettlefield.core.timeline import quantile

DRIFT_P = 0.01  # a drift is told when chance alone gives one so large in fewer than 1 of 100 series
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
    1379-1389. A few disturbed samples do not bend it.
    """
    if len(x) < 3 or len(set(x)) < 2:
        return None
    from scipy import stats  # noqa: PLC0415 - takes more than a second, and few need it

    found = stats.theilslopes(np.asarray(y, dtype=float), np.asarray(x, dtype=float), confidence)
    return Estimate(value=float(found.slope), low=float(found.low_slope), high=float(found.high_slope), n=len(x))


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
    """The last third of a series against its first, as a ratio of medians; None where no drift is told: one that
    chance may give, or of less than a twentieth.

    Source
    ------
    Mann and Whitney (1947), Ann. Math. Stat. 18, 50-60, two-sided, at 1 %.
    """
    third = len(values) // 3
    if third < LEAST_THIRD:
        return None
    from scipy import stats  # noqa: PLC0415 - takes more than a second, and few need it

    first, last = list(values[:third]), list(values[-third:])
    if stats.mannwhitneyu(first, last).pvalue >= DRIFT_P:
        return None
    middle = quantile(first, 0.5)
    ratio = quantile(last, 0.5) / middle if middle else 1.0
    return ratio if abs(ratio - 1) >= DRIFT_LEAST else None


def median_ratio(
    points: Sequence[tuple[Sequence[float], Sequence[float]]], *, confidence: float = 0.95
) -> Estimate | None:
    """How many times a reference's median the median of values is: the geometric mean over alike points.

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
