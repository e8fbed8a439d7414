"""What a suite can show: the smallest drop between two levels that it would notice, or could have noticed."""

import math
from collections.abc import Callable
from statistics import NormalDist

import scipy  # its parts are loaded when they are first used

from kettlefield.core.statistics.paired import Pairs


def smallest_drop(pairs: float, *, discordant: float, confidence: float = 0.95, power: float = 0.8) -> float | None:
    """The smallest true drop in pass rate that a paired one-sided test shows with the wanted power.

    Parameters
    ----------
    pairs : float
        Exercises put to both levels, above 0; samples of one exercise count by their effective number.
    discordant : float
        Share of pairs in which just one of the two levels solves the exercise, above 0, up to 1.
    confidence : float
        One-sided, of the test.
    power : float
        Chance of seeing the drop when it is there.

    Returns
    -------
    float or None
        A difference of shares; None when even a drop as large as ``discordant`` would not be seen.

    Raises
    ------
    ValueError
        A value is outside its range.

    Source
    ------
    Connor (1987), Biometrics 43, 207-211: pairs = ((z_a sqrt(psi) + z_b sqrt(psi - d^2)) / d)^2, solved for d.
    """
    if pairs <= 0 or not 0 < discordant <= 1 or not 0.5 < confidence < 1 or not 0 < power < 1:
        raise ValueError(
            f"pairs={pairs}, discordant={discordant}, confidence={confidence}, power={power}: outside their ranges"
        )
    needed = _needed_pairs(confidence, power)
    if needed(discordant, discordant) > pairs:
        return None
    return float(scipy.optimize.brentq(lambda drop: needed(drop, discordant) - pairs, 1e-6, discordant))


def needed_pairs(drop: float, *, discordant: float, confidence: float = 0.95, power: float = 0.8) -> float:
    """How many pairs a paired one-sided test needs to show a drop in pass rate with the wanted power.

    Parameters
    ----------
    drop : float
        A difference of shares, above 0, up to 1.
    discordant : float
        Share of pairs that just one of the two levels solves; a larger drop is taken for at least as many.
    confidence, power : float
        As `smallest_drop` has them.

    Raises
    ------
    ValueError
        A value is outside its range.
    """
    if not 0 < drop <= 1 or not 0 < discordant <= 1:
        raise ValueError(f"drop={drop}, discordant={discordant}: outside their ranges")
    return _needed_pairs(confidence, power)(drop, max(drop, discordant))


def minimum_detectable_drop(pairs: Pairs, *, confidence: float = 0.95, power: float = 0.8) -> float | None:
    """The smallest true drop that a comparison such as this one shows with the wanted power.

    Parameters
    ----------
    pairs : Pairs
        As counted; its share of pairs that differ, with one half more on either side, is taken for the true one,
        and a larger drop for at least as many that differ.
    confidence, power : float
        As `smallest_drop` has them.

    Returns
    -------
    float or None
        A difference of shares; None: so few pairs could show none.
    """
    discordant = (pairs.won + pairs.lost + 1) / (pairs.pairs + 2)
    needed = _needed_pairs(confidence, power)
    if needed(1.0, 1.0) > pairs.counted:
        return None
    return float(scipy.optimize.brentq(lambda drop: needed(drop, max(drop, discordant)) - pairs.counted, 1e-6, 1.0))


def _needed_pairs(confidence: float, power: float) -> Callable[[float, float], float]:
    """Connor's number of pairs, for a drop and a share that differs."""
    z_a, z_b = NormalDist().inv_cdf(confidence), NormalDist().inv_cdf(power)

    def needed(drop: float, discordant: float) -> float:
        root = math.sqrt(max(0.0, discordant - drop * drop))
        return ((z_a * math.sqrt(discordant) + z_b * root) / drop) ** 2

    return needed


def effective_pairs(exercises: int, samples: int, *, likeness: float = 0.5) -> float:
    """How many independent pairs several samples of each exercise are worth.

    Parameters
    ----------
    exercises, samples : int
        At least 1 each.
    likeness : float
        Correlation of the samples of one exercise, 0 to 1; at 1 more samples add nothing.

    Source
    ------
    Kish (1965), Survey Sampling, section 5.4: design effect 1 + (m - 1) rho.
    """
    return exercises * samples / (1 + (samples - 1) * likeness)
