"""Confidence intervals for pass ratios, for several samples an exercise, and for quantiles."""

import math
from collections.abc import Sequence
from statistics import NormalDist

import numpy as np
import scipy  # its parts are loaded when they are first used

from kettlefield.core.statistics.estimate import Estimate


def two_sided_z(confidence: float) -> float:
    """Normal quantile that leaves ``(1 - confidence) / 2`` on either side."""
    _check_confidence(confidence)
    return NormalDist().inv_cdf(0.5 + confidence / 2)


def wilson_interval(n_passed: float, n_total: float, *, confidence: float = 0.95) -> tuple[float, float]:
    """Confidence interval for a pass ratio.

    Parameters
    ----------
    n_passed, n_total : float
        Trials passed and trials run; ``0 <= n_passed <= n_total``, ``n_total > 0``. They may be
        fractions when trials were discounted for clustering.
    confidence : float
        Two-sided, within (0, 1).

    Returns
    -------
    tuple of float
        ``low`` and ``high``, ratios within [0, 1].

    Raises
    ------
    ValueError
        A count or the confidence is outside its range.

    Source
    ------
    Wilson (1927), J. Amer. Stat. Assoc. 22, 209-212.
    """
    if not (n_total > 0 and 0 <= n_passed <= n_total):
        raise ValueError(f"n_passed={n_passed}, n_total={n_total}: wanted 0 <= n_passed <= n_total, n_total > 0")
    z2 = two_sided_z(confidence) ** 2
    ratio = n_passed / n_total
    middle = (n_passed + z2 / 2) / (n_total + z2)
    half = math.sqrt(z2) / (n_total + z2) * math.sqrt(n_total * ratio * (1 - ratio) + z2 / 4)
    # the algebra gives exactly 0 or 1 at the ends; rounding may not
    low = 0.0 if n_passed == 0 else max(0.0, middle - half)
    high = 1.0 if n_passed == n_total else min(1.0, middle + half)
    return low, high


def pass_ratio(
    passed: Sequence[int], asked: Sequence[int], *, confidence: float = 0.95, corrected: bool = False
) -> Estimate:
    """Pass ratio over exercises that were each asked one or several times.

    Samples of one exercise resemble each other, so they count for less than as many exercises. The
    trials are discounted by the design effect (variance between exercises over the variance that
    independent trials would have), and Wilson's interval is taken on the discounted numbers. With one
    sample an exercise nothing is discounted. With several, the number counted is never more than the
    trials and never less than the exercises; with no variance to judge by (all passed, or none) it is
    the exercises, the cautious end.

    Parameters
    ----------
    passed, asked : sequence of int, shape (n_exercises,)
        Trials passed and trials run of each exercise, the latter at least 1.
    confidence : float
        Two-sided, within (0, 1).
    corrected : bool
        Take half a trial more as passed for the upper bound and half a trial less for the lower: so they also hold far
        out in the tail, where looks at few trials lie.

    Returns
    -------
    Estimate
        Ratios within [0, 1]; ``n`` is the number of trials.

    Raises
    ------
    ValueError
        No exercise, or counts out of range.

    Source
    ------
    Korn and Graubard (1998), Survey Methodology 24, 193-201 (effective sample size), with Wilson's
    interval in place of the exact one.
    """
    passed_n, asked_n = np.asarray(passed, dtype=float), np.asarray(asked, dtype=float)
    if len(asked_n) == 0 or np.any(asked_n < 1) or np.any(passed_n < 0) or np.any(passed_n > asked_n):
        raise ValueError("wanted at least one exercise, with 0 <= passed <= asked and asked >= 1")
    trials = float(asked_n.sum())
    ratio = float(passed_n.sum()) / trials
    counted = effective_trials(passed, asked)
    low, high = _wilson(ratio, counted, 0.5 / trials if corrected else 0.0, confidence)
    return Estimate(value=ratio, low=low, high=high, n=int(trials))


def _wilson(ratio: float, counted: float, correction: float, confidence: float) -> tuple[float, float]:
    """Wilson's interval round a ratio of discounted trials, each bound from a ratio a little nearer to its end."""
    lower, upper = max(0.0, ratio - correction), min(1.0, ratio + correction)
    low, _ = wilson_interval(min(lower * counted, counted), counted, confidence=confidence)
    _, high = wilson_interval(min(upper * counted, counted), counted, confidence=confidence)
    return low, high


def effective_trials(passed: Sequence[int], asked: Sequence[int]) -> float:
    """What the trials of one suite are worth, discounted for samples of the same exercise: see `pass_ratio`."""
    passed_n, asked_n = np.asarray(passed, dtype=float), np.asarray(asked, dtype=float)
    return _discounted(passed_n, asked_n, float(passed_n.sum() / asked_n.sum()))


def _discounted(passed: np.ndarray, asked: np.ndarray, ratio: float) -> float:
    clusters, trials = len(asked), float(asked.sum())
    if clusters == trials:
        return trials
    variance_if_independent = ratio * (1 - ratio) / trials
    if clusters < 2 or variance_if_independent == 0:
        return float(clusters)
    # linearised variance of a ratio estimate over clusters (Cochran 1977, section 9A)
    residuals = passed - ratio * asked
    variance = clusters / (clusters - 1) * float(np.sum(residuals**2)) / trials**2
    effect = max(variance / variance_if_independent, 1.0)
    return min(max(trials / effect, float(clusters)), trials)


def weighted_ratio(
    shares: Sequence[tuple[float, Sequence[int], Sequence[int]]],
    *,
    confidence: float = 0.95,
    likeness: np.ndarray | None = None,
    corrected: bool = False,
) -> Estimate:
    """Pass ratio over several suites: the mean of theirs by weight.

    Parameters
    ----------
    shares : sequence of (weight, passed, asked)
        For each suite its weight, above 0, and its exercises as in `pass_ratio`.
    confidence : float
        Two-sided, within (0, 1).
    likeness : array, shape (n_suites, n_suites), optional
        Correlation of the suites' ratios, 1 on the diagonal: two seeds of one suite are variants of the same tasks.
        None: the suites have nothing to do with each other.
    corrected : bool
        As `pass_ratio` has it.

    Returns
    -------
    Estimate
        Ratios within [0, 1]; ``n`` is the number of trials.

    Raises
    ------
    ValueError
        No suite, a weight not above 0, or counts out of range.

    Source
    ------
    Yan and Su (2010), Statistics in Biopharmaceutical Research 2, 329-335: each stratum's Wilson bound at
    a quantile shrunk so that together they hold at the confidence wanted. Its variances are taken at
    Wilson's midpoints, which stay above 0 when all trials passed.
    """
    if not shares or any(weight <= 0 for weight, _, _ in shares):
        raise ValueError("wanted at least one suite, each with a weight above 0")
    if len(shares) == 1:
        return pass_ratio(shares[0][1], shares[0][2], confidence=confidence, corrected=corrected)
    ratios = [pass_ratio(passed, asked, confidence=confidence) for _, passed, asked in shares]
    counts = [effective_trials(passed, asked) for _, passed, asked in shares]
    weights = np.array([weight for weight, _, _ in shares]) / sum(weight for weight, _, _ in shares)
    z = two_sided_z(confidence)
    middles = [(r.value * n + z * z / 2) / (n + z * z) for r, n in zip(ratios, counts, strict=True)]
    spread = weights * np.sqrt([m * (1 - m) / n for m, n in zip(middles, counts, strict=True)])
    correlations = np.eye(len(shares)) if likeness is None else likeness
    shrunk = z * float(np.sqrt(spread @ correlations @ spread) / np.sum(spread))
    inner = 2 * NormalDist().cdf(shrunk) - 1
    bounds = np.array(
        [_wilson(r.value, n, 0.5 / r.n if corrected else 0.0, inner) for r, n in zip(ratios, counts, strict=True)]
    )
    low, high = weights @ bounds
    value = float(weights @ np.array([r.value for r in ratios]))
    return Estimate(value=value, low=min(float(low), value), high=max(float(high), value), n=sum(r.n for r in ratios))


def quantile_interval(values: Sequence[float], q: float, *, confidence: float = 0.95) -> Estimate:
    """A quantile with a distribution-free interval from order statistics.

    Parameters
    ----------
    values : sequence of float, shape (n,), n >= 1
        In any unit; the result has the same one.
    q : float
        Within (0, 1).
    confidence : float
        Two-sided, within (0, 1); each bound alone holds with ``0.5 + confidence / 2``.

    Returns
    -------
    Estimate
        A bound is None where so few values cannot give it: an upper bound for p95 at one-sided 95 %
        takes 59 values.

    Raises
    ------
    ValueError
        No value, or ``q`` or ``confidence`` out of range.

    Source
    ------
    Conover (1999), Practical Nonparametric Statistics, 3rd edition, section 3.2.
    """
    _check_confidence(confidence)
    if not 0 < q < 1:
        raise ValueError(f"q={q}: wanted within (0, 1)")
    ordered = np.sort(np.asarray(values, dtype=float))
    n = len(ordered)
    if n == 0:
        raise ValueError("no value to take a quantile of")
    tail = (1 - confidence) / 2
    # how many of n values lie below the true quantile: its distribution, up to each number
    below = scipy.special.bdtr(np.arange(n + 1), n, q)
    # the r-th smallest value lies above the quantile with P(below <= r - 1)
    low_rank = int(np.searchsorted(below, tail))  # largest r with P(below <= r - 1) <= tail
    high_rank = int(np.searchsorted(below, 1 - tail)) + 1  # smallest r with P(below >= r) <= tail
    return Estimate(
        value=float(np.quantile(ordered, q, method="linear")),
        low=float(ordered[low_rank - 1]) if low_rank >= 1 else None,
        high=float(ordered[high_rank - 1]) if high_rank <= n else None,
        n=n,
    )


def mean_of_groups(
    groups: Sequence[Sequence[float]], *, confidence: float = 0.95, within: tuple[float, float] = (-math.inf, math.inf)
) -> Estimate:
    """Mean of all values, with an interval that takes each group as one draw.

    Parameters
    ----------
    groups : sequence of sequence of float
        Values that belong together, such as the samples of one exercise; none of them empty.
    confidence : float
        Two-sided, within (0, 1).
    within : tuple of float
        The scale's ends; no bound lies outside.

    Returns
    -------
    Estimate
        Without bounds when there is one group only; ``n`` counts values. Of groups that are all equal the
        interval is Wilson's over groups, the widest that draws on the scale can have.

    Source
    ------
    The ratio estimator of cluster sampling, Cochran (1977), Sampling Techniques, section 9A.1, with Student's t.
    """
    _check_confidence(confidence)
    sums, sizes = np.array([sum(g) for g in groups]), np.array([len(g) for g in groups], dtype=float)
    total, clusters = float(sizes.sum()), len(groups)
    value = float(sums.sum() / total)
    if clusters < 2:
        return Estimate(value=value, low=None, high=None, n=int(total))
    residuals = sums - value * sizes
    variance = clusters / (clusters - 1) * float((residuals**2).sum()) / total**2
    if math.isclose(variance, 0.0, abs_tol=1e-15) and math.isfinite(within[1] - within[0]):
        # groups that are all equal say nothing of the spread: on a scale with ends, two-valued draws spread most
        scale = within[1] - within[0]
        low, high = wilson_interval(clusters * (value - within[0]) / scale, clusters, confidence=confidence)
        return Estimate(value=value, low=within[0] + scale * low, high=within[0] + scale * high, n=int(total))
    reach = float(scipy.special.stdtrit(clusters - 1, (1 + confidence) / 2)) * math.sqrt(variance)
    return Estimate(value=value, low=max(within[0], value - reach), high=min(within[1], value + reach), n=int(total))


def samples_for_bound(q: float, *, confidence: float) -> int:
    """Fewest values that can bound quantile ``q`` on its far side, one-sided at ``confidence``.

    The largest of n values is above the quantile with probability ``1 - q**n``.
    """
    extreme = max(q, 1 - q)
    return math.ceil(math.log(1 - confidence) / math.log(extreme))


def _check_confidence(confidence: float) -> None:
    if not 0 < confidence < 1:
        raise ValueError(f"confidence={confidence}: wanted within (0, 1)")
