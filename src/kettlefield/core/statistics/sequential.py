"""Looking at results again and again without more wrong decisions: boundaries that spend the error by and by.

A look is compared with a boundary in place of the quantile that a single look has. The boundary is written as a
confidence: an interval at that confidence, taken at every look, holds at all looks together with the confidence wanted
(repeated confidence intervals: Jennison and Turnbull 1989, J. R. Statist. Soc. B 51, 305-361).
"""

import itertools
from collections.abc import Callable, Sequence
from functools import cache, lru_cache, partial
from statistics import NormalDist

import numpy as np
import scipy  # its parts are loaded when they are first used

_NODES = 320  # of the quadrature over what has not crossed yet
_FAR = 9.0  # standard deviations: what lies beyond has no weight that a double holds beside the rest
_NORMAL = NormalDist()


SHAPE = 1.5  # of the power of the information by which the error is spent; chosen in `benchmarks/sequential.py`
Spend = Callable[[float, float], float]  # share of the information and error in, error that may be spent by then out


def spent(fraction: float, error: float) -> float:
    """How much of a one-sided error may be spent by a share of the information.

    Parameters
    ----------
    fraction : float
        Share of the information that is seen, above 0; from 1 on all is spent.
    error : float
        One-sided, within (0, 0.5).

    Raises
    ------
    ValueError
        A value is outside its range.

    Source
    ------
    Lan and DeMets (1983), Biometrika 70, 659-663, with the power family of Kim and DeMets (1987), Biometrika 74,
    149-154. At the power 1.5 a clear case ends sooner than after O'Brien and Fleming, for hardly any power.
    """
    _check(fraction, error)
    return error * float(min(1.0, fraction) ** SHAPE)


def spent_late(fraction: float, error: float) -> float:
    """The same after O'Brien and Fleming: next to nothing at first. Lan and DeMets (1983): 2 - 2 Phi(z / sqrt(t)) with
    z the normal quantile that leaves half of the error.
    """
    _check(fraction, error)
    return error if fraction >= 1 else 2 * _NORMAL.cdf(_NORMAL.inv_cdf(error / 2) / fraction**0.5)


def _check(fraction: float, error: float) -> None:
    if not 0 < error < 0.5 or not fraction > 0:
        raise ValueError(f"fraction={fraction}, error={error}: wanted above 0, and within (0, 0.5)")


def boundaries(fractions: Sequence[float], error: float, spend: Spend = spent) -> tuple[float, ...]:
    """The standard normal score that a look must exceed to decide, for looks at given shares of the information.

    Parameters
    ----------
    fractions : sequence of float, shape (n_looks,), n >= 1
        Share of the information at each look, above 0 and rising; none depends on what was seen.
    error : float
        One-sided, within (0, 0.5): the chance that any look exceeds its boundary where nothing is to be found.
    spend : callable
        `spent` or `spent_late`.

    Returns
    -------
    tuple of float, shape (n_looks,)
        Infinite where a look may spend nothing that a double can hold.

    Raises
    ------
    ValueError
        No look, or shares that do not rise.

    Source
    ------
    Armitage, McPherson and Rowe (1969), J. R. Statist. Soc. A 132, 235-244: what has not crossed at one look is
    carried to the next by integration; here by Gauss and Legendre's rule.
    """
    if not fractions or fractions[0] <= 0 or any(b <= a for a, b in itertools.pairwise(fractions)):
        raise ValueError(f"fractions={list(fractions)}: wanted at least one, above 0 and rising")
    return _boundaries(tuple(min(1.0, float(fraction)) for fraction in fractions), float(error), spend)


@cache
def _rule() -> tuple[np.ndarray, np.ndarray]:
    """Places within (-1, 1) and weights of the quadrature, shape (nodes,) each."""
    points, weights = np.polynomial.legendre.leggauss(_NODES)
    return points, weights


@lru_cache(maxsize=512)
def _boundaries(fractions: tuple[float, ...], error: float, spend: Spend) -> tuple[float, ...]:
    points, weights = _rule()
    found: list[float] = []
    places = density = np.array([])  # of the sum of increments, over what has not crossed
    before_t, before_spent = 0.0, 0.0
    for fraction in fractions:
        budget = max(0.0, spend(fraction, error) - before_spent)
        step = (fraction - before_t) ** 0.5

        z = float("inf")
        off = partial(_first_to_exceed, places, density, step, fraction**0.5, budget)
        if off(_FAR) < 0:
            z = float(scipy.optimize.brentq(off, -_FAR, _FAR))
        found.append(z)
        low, high = -_FAR * fraction**0.5, min(z, _FAR) * fraction**0.5
        here = (high - low) / 2 * points + (high + low) / 2
        if len(places):
            kernel = np.exp(-(((here[:, None] - places[None, :]) / step) ** 2) / 2) / (step * (2 * np.pi) ** 0.5)
            heights = kernel @ density
        else:
            heights = np.exp(-((here / step) ** 2) / 2) / (step * (2 * np.pi) ** 0.5)
        places, density = here, heights * weights * (high - low) / 2
        before_t, before_spent = fraction, before_spent + budget
    return tuple(found)


def _first_to_exceed(
    places: np.ndarray, density: np.ndarray, step: float, root: float, budget: float, z: float
) -> float:
    """The chance that a look is the first to exceed ``z``, less a budget."""
    chance = float(density @ scipy.special.ndtr((places - z * root) / step)) if len(places) else _NORMAL.cdf(-z)
    return chance - budget


def confidence_at(fractions: Sequence[float], confidence: float) -> float:
    """The one-sided confidence that an interval needs at the last of several looks.

    Parameters
    ----------
    fractions : sequence of float, shape (n_looks,), n >= 1
        Share of the information at each look so far.
    confidence : float
        One-sided, within (0.5, 1): with which all looks together are to hold.

    Returns
    -------
    float
        At least ``confidence``, below 1 also where the look may spend next to nothing.
    """
    return min(_NORMAL.cdf(boundaries(fractions, 1 - confidence)[-1]), 1 - 1e-15)


def chance_decided(
    drift: float,
    fractions: Sequence[float],
    error: float,
    *,
    seen: float = 0.0,
    at: float = 0.0,
    spend: Spend = spent,
) -> tuple[float, ...]:
    """The chance that some look up to each one decides, either way, if an effect of a given size is there.

    Parameters
    ----------
    drift : float
        Expected standard normal score at the whole information.
    fractions : sequence of float, shape (n_looks,), n >= 1
        Share of the information at each look, those that lie behind included.
    error : float
        One-sided, of either side.
    seen, at : float
        The score that was seen, and the share of the information at which; looks up to there lie behind.
    spend : callable
        As `boundaries` takes it.

    Returns
    -------
    tuple of float, shape (n_looks,)
        0 for looks that lie behind.
    """
    bounds = boundaries(fractions, error, spend)
    points, weights = _rule()
    places, density = np.array([seen * at**0.5]), np.array([1.0])
    before, chances, kept = at, [], 1.0
    for fraction, z in zip(fractions, bounds, strict=True):
        if fraction <= at:
            chances.append(0.0)
            continue
        step, moved = (fraction - before) ** 0.5, places + drift * (fraction - before)
        edge = min(z, _FAR + abs(drift)) * fraction**0.5
        here = edge * points
        kernel = np.exp(-(((here[:, None] - moved[None, :]) / step) ** 2) / 2) / (step * (2 * np.pi) ** 0.5)
        inside = density @ (scipy.special.ndtr((edge - moved) / step) - scipy.special.ndtr((-edge - moved) / step))
        places, density = here, (kernel @ density) * weights * edge
        kept = min(kept, float(inside))
        chances.append(1 - kept)
        before = fraction
    return tuple(chances)
