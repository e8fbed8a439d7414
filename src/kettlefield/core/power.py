"""What a suite can show before a campaign is run: the smallest drop between two levels that it would notice."""

import math

from scipy import stats


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
    z_a, z_b = float(stats.norm.ppf(confidence)), float(stats.norm.ppf(power))

    def needed(drop: float) -> float:
        root = math.sqrt(max(0.0, discordant - drop * drop))
        return ((z_a * math.sqrt(discordant) + z_b * root) / drop) ** 2

    low, high = 1e-6, discordant
    if needed(high) > pairs:
        return None
    for _ in range(60):  # halves the range each time: far below what is printed
        middle = (low + high) / 2
        low, high = (low, middle) if needed(middle) <= pairs else (middle, high)
    return high


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
