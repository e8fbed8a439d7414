"""Agreement on a scale beyond what chance gives: Cohen's weighted kappa; and how marks part right from wrong."""

import math
from collections.abc import Sequence

import numpy as np
import scipy  # its parts are loaded when they are first used

from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.intervals import two_sided_z

_STEP = 1e-9  # off the area found, where the equation for its bounds has a root that is none


def quadratic_weights(categories: int) -> np.ndarray:
    """Agreement weights, shape (categories, categories): 1 for the same, falling with the square of the distance."""
    places = np.arange(categories)
    distance = np.abs(places[:, None] - places[None, :])
    weights: np.ndarray = 1 - (distance / max(1, categories - 1)) ** 2
    return weights


def weighted_kappa(table: np.ndarray, weights: np.ndarray, *, confidence: float = 0.95) -> Estimate | None:
    """Weighted kappa of two raters from their table of counts.

    Parameters
    ----------
    table : array, shape (categories, categories)
        How often the first rater gave the row's category where the second gave the column's.
    weights : array, shape (categories, categories)
        Agreement weights, 1 on the diagonal; the unit matrix gives plain kappa.
    confidence : float
        Two-sided, of the interval.

    Returns
    -------
    Estimate or None
        None where it is not defined: nothing was rated twice, or chance alone agrees wholly.

    Source
    ------
    Cohen (1968), Psychological Bulletin 70:213-220; the standard error is that of Fleiss, Cohen and Everitt
    (1969), Psychological Bulletin 72:323-327.
    """
    count = float(table.sum())
    if count == 0:
        return None
    share = table / count
    rows, columns = share.sum(axis=1), share.sum(axis=0)
    disagreement, chance = float((weights * share).sum()), float((weights * np.outer(rows, columns)).sum())
    if math.isclose(chance, 1):
        return None
    kappa = (disagreement - chance) / (1 - chance)
    row_means, column_means = weights @ columns, rows @ weights
    spread = weights * (1 - chance) - (row_means[:, None] + column_means[None, :]) * (1 - disagreement)
    variance = float((share * spread**2).sum()) - (disagreement * chance - 2 * chance + disagreement) ** 2
    error = math.sqrt(max(0.0, variance) / count) / (1 - chance) ** 2
    reach = two_sided_z(confidence) * error
    if math.isclose(disagreement, 1):
        # no spread to judge by: as far down as it would be with one more, as far apart as the marks given lie
        used = np.flatnonzero(rows)
        more = table.copy()
        more[used[0], used[-1]] += 1
        one_off = weighted_kappa(more, weights, confidence=confidence)
        return Estimate(value=kappa, low=one_off.low if one_off is not None else None, high=1.0, n=int(count))
    return Estimate(value=kappa, low=max(-1.0, kappa - reach), high=min(1.0, kappa + reach), n=int(count))


def agreement_on_scale(
    pairs: Sequence[tuple[int, int]], categories: int, *, confidence: float = 0.95
) -> Estimate | None:
    """Kappa with quadratic weights of pairs of marks from 0 to ``categories`` - 1."""
    table = np.zeros((categories, categories))
    for one, other in pairs:
        table[one, other] += 1
    return weighted_kappa(table, quadratic_weights(categories), confidence=confidence)


def parting(right: Sequence[float], wrong: Sequence[float], *, confidence: float = 0.95) -> Estimate | None:
    """How often a right reply is marked above a wrong one, ties counting half: 0.5 says nothing, 1 parts them wholly.

    Parameters
    ----------
    right, wrong : sequence of float
        Marks of replies whose checks pass, and of those whose checks fail.
    confidence : float
        Two-sided, of the interval.

    Source
    ------
    The area under the ROC curve; its interval is the score-like one of Newcombe (2006), Statistics in Medicine
    25:559-573 (method 5), on the variance of Hanley and McNeil (1982), Radiology 143:29-36: it keeps its width
    where the replies are parted wholly.
    """
    if not right or not wrong:
        return None
    ones, others = np.asarray(right, dtype=float), np.asarray(wrong, dtype=float)
    above = (ones[:, None] > others[None, :]).mean() + 0.5 * (ones[:, None] == others[None, :]).mean()
    area, first, second = float(above), len(ones), len(others)
    z = two_sided_z(confidence)

    def beyond(true_area: float) -> float:
        """Above 0 where an area as found would be surprising."""
        middle = (first + second) / 2 - 1
        spread = 1 + middle * ((1 - true_area) / (2 - true_area) + true_area / (1 + true_area))
        return (area - true_area) ** 2 - z**2 * true_area * (1 - true_area) * spread / (first * second)

    low = scipy.optimize.brentq(beyond, 0.0, area - _STEP) if area > 0 else 0.0
    high = scipy.optimize.brentq(beyond, area + _STEP, 1.0) if area < 1 else 1.0
    return Estimate(value=area, low=float(low), high=float(high), n=first + second)
