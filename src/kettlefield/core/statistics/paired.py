"""Two levels on the same exercises: difference of pass rates, non-inferiority, and what would settle it."""

import math
from collections.abc import Callable, Sequence
from enum import StrEnum

import msgspec
import numpy as np
import scipy  # its parts are loaded when they are first used

from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.intervals import effective_trials, two_sided_z, wilson_interval

RESAMPLES = 9999  # of sign flips; up to 13 exercises all of them are tried


class SeedGap(msgspec.Struct, frozen=True, kw_only=True):
    """What two seeds tell."""

    difference: float  # mean over exercises of the share solved on the first seed less that on the second
    p: float  # chance of a gap at least this large if the seeds were equally hard
    exercises: int


def seed_gap(first: Sequence[float], second: Sequence[float]) -> SeedGap:
    """Compare the shares solved of the same exercises on two seeds.

    Parameters
    ----------
    first, second : sequence of float, shape (n_exercises,), n >= 1
        Share of each exercise's samples that passed, in the same order.

    Raises
    ------
    ValueError
        No exercise, or not the same number.

    Source
    ------
    Paired randomisation test: under equal seeds each difference is as likely with either sign
    (Fisher 1935, The Design of Experiments, section 21). One-sided; the draw is seeded.
    """
    a, b = np.asarray(first, dtype=float), np.asarray(second, dtype=float)
    if len(a) == 0 or len(a) != len(b):
        raise ValueError("wanted the same exercises on both seeds, at least one")
    if np.array_equal(a, b):
        return SeedGap(difference=0.0, p=1.0, exercises=len(a))
    test = scipy.stats.permutation_test(
        (a, b),
        lambda x, y, axis: np.mean(x, axis=axis) - np.mean(y, axis=axis),
        permutation_type="samples",
        alternative="greater",
        n_resamples=RESAMPLES,
        vectorized=True,
        random_state=np.random.default_rng(1),
    )
    return SeedGap(difference=float(np.mean(a - b)), p=float(test.pvalue), exercises=len(a))


SLACK = 1e-6  # of an exercise: what the search for a root leaves
MOST_MORE = 64.0  # times what there is: beyond that more of the same settles nothing in practice


def least_growth(settles: Callable[[float], bool]) -> float | None:
    """The least factor, up to `MOST_MORE`, by which evidence must grow until it settles; None: not even that does.

    Parameters
    ----------
    settles : callable
        Whether a multiple of the evidence would settle it; once it does, more must too.
    """
    if not settles(MOST_MORE):
        return None
    if settles(1.0):
        return 1.0
    return float(scipy.optimize.bisect(lambda factor: 1.0 if settles(factor) else -1.0, 1.0, MOST_MORE))


def exercises_to_clear(
    passed: Sequence[int], asked: Sequence[int], threshold: float, *, confidence: float
) -> int | None:
    """How many exercises in all would put a pass rate's bound on one side of a threshold, if the rate stays.

    Parameters
    ----------
    passed, asked : sequence of int, shape (n_exercises,)
        As `pass_ratio` takes them.
    threshold : float
        A ratio within [0, 1].
    confidence : float
        One-sided, within (0.5, 1).

    Returns
    -------
    int or None
        None: it lies so near the threshold that more exercises would hardly settle it.
    """
    worth, ratio = effective_trials(passed, asked), sum(passed) / sum(asked)

    def settles(times: float) -> bool:
        counted = worth * times
        low, high = wilson_interval(min(ratio * counted, counted), counted, confidence=2 * confidence - 1)
        return low >= threshold or high < threshold

    growth = least_growth(settles)
    return None if growth is None else math.ceil(growth * len(asked) - SLACK)


class Evidence(StrEnum):
    """What a comparison says of "no worse by more than the margin"."""

    SHOWN = "shown"
    NOT_SHOWN = "not shown"
    SHOWN_WORSE = "shown to be worse"


class Pairs(msgspec.Struct, frozen=True, kw_only=True):
    """Trials of two levels paired by exercise and sample."""

    exercises: int
    pairs: int
    won: int  # pairs that only the level passed
    lost: int  # pairs that only the reference passed
    counted: float  # pairs that these are worth: samples of one exercise resemble each other
    worth: float | None = None  # the same before it is lowered for resting on few exercises; None: nothing to judge by
    differing: int = 0  # exercises of which some pair differs

    @property
    def at_look(self) -> "Pairs":
        """The same, counted for one of several looks.

        The design effect is an estimate of the exercises of which some pair differs, and early looks have few of them:
        it counts as one of so many degrees of freedom as lie in the geometric middle of those exercises and all.
        `benchmarks/sequential.py` shows that this holds the error where more would not.
        """
        if self.worth is None:
            return self
        lowered = float(_caution(np.sqrt(self.differing * self.exercises))) * self.worth
        return msgspec.structs.replace(self, counted=min(max(lowered, self.exercises), self.pairs))

    @property
    def difference(self) -> float:
        """Pass rate of the level less that of the reference."""
        return (self.won - self.lost) / self.pairs


def count_pairs(level: Sequence[Sequence[bool]], reference: Sequence[Sequence[bool]]) -> Pairs:
    """Count pairs, and what they are worth.

    Parameters
    ----------
    level, reference : sequence of sequence of bool, shape (n_exercises,) of (n_samples,)
        For each exercise whether each sample passed; both sides in the same order and of the same shape.

    Returns
    -------
    Pairs
        ``counted`` is the number of pairs over the design effect: the variance of the difference between
        exercises over that of independent pairs. It is never more than the pairs nor less than the exercises;
        without variance to judge by it is the exercises, the cautious end.

    Raises
    ------
    ValueError
        No exercise, or the shapes differ.

    Source
    ------
    Obuchowski (1998), Statistics in Medicine 17, 1495-1507 (variance over clusters); the deflation of the counts is
    that of Korn and Graubard (1998). `benchmarks/no_worse.py` shows its error rates beside those of others.
    """
    if not level or [len(side) for side in level] != [len(side) for side in reference]:
        raise ValueError("wanted the same exercises and samples on both sides, at least one")
    sizes = np.array([len(side) for side in level], dtype=float)
    nets = np.array([sum(a) - sum(b) for a, b in zip(level, reference, strict=True)], dtype=float)
    won = sum(x and not y for a, b in zip(level, reference, strict=True) for x, y in zip(a, b, strict=True))
    lost = sum(y and not x for a, b in zip(level, reference, strict=True) for x, y in zip(a, b, strict=True))
    pairs, exercises = int(sizes.sum()), len(sizes)
    differing = sum(any(x != y for x, y in zip(a, b, strict=True)) for a, b in zip(level, reference, strict=True))
    worth = float(_worth(nets[None, :], sizes, np.array([won + lost]))[0])
    counted = float(counted_pairs(nets[None, :], sizes, np.array([won + lost]))[0])
    return Pairs(
        exercises=exercises,
        pairs=pairs,
        won=won,
        lost=lost,
        counted=counted,
        worth=None if math.isnan(worth) else worth,
        differing=differing,
    )


def counted_pairs(
    nets: np.ndarray,
    sizes: np.ndarray,
    discordant: np.ndarray,
    differing: np.ndarray | None = None,
) -> np.ndarray:
    """What pairs are worth, for many campaigns at once: see `count_pairs`.

    Parameters
    ----------
    nets : array, shape (campaigns, n_exercises)
        Samples that the level passed less those that the reference passed, for each exercise.
    sizes : array, shape (n_exercises,)
        Pairs of each exercise.
    discordant : array, shape (campaigns,)
        Pairs that just one of the two passed.
    differing : array, shape (campaigns,), optional
        Exercises of which some pair differs, for one of several looks: see `Pairs.at_look`.

    Returns
    -------
    array, shape (campaigns,)
    """
    pairs, exercises = float(sizes.sum()), len(sizes)
    worth = _worth(nets, sizes, discordant)
    free = np.asarray(exercises - 1) if differing is None else np.sqrt(differing * exercises)
    lowered = np.where(np.isnan(worth), exercises, _caution(free) * worth)
    return np.clip(lowered, exercises, pairs)


def _caution(free: np.ndarray) -> np.ndarray:
    """A variance is an estimate, with so many degrees of freedom: worth as much less as Student's quantile is wider."""
    wider = scipy.special.stdtrit(np.maximum(free, 1), 0.95)
    return np.where(free < 1, 0.0, (two_sided_z(0.9) / wider) ** 2)


def _worth(nets: np.ndarray, sizes: np.ndarray, discordant: np.ndarray) -> np.ndarray:
    """Pairs over their design effect; not a number where there is nothing to judge it by."""
    pairs, exercises = float(sizes.sum()), len(sizes)
    if exercises == pairs:
        return np.full(len(nets), np.nan)
    mean = nets.sum(axis=1) / pairs
    independent = (discordant / pairs - mean**2) / pairs
    between = exercises / max(1, exercises - 1) * ((nets - sizes * mean[:, None]) ** 2).sum(axis=1) / pairs**2
    with np.errstate(divide="ignore", invalid="ignore"):
        return np.where((independent > 0) & (between > 0), pairs * independent / between, np.nan)


def score_statistics(won: np.ndarray, lost: np.ndarray, pairs: np.ndarray, difference: float) -> np.ndarray:
    """Standard normal scores of the hypothesis that the difference of pass rates is a given one, for many campaigns.

    Parameters
    ----------
    won, lost, pairs : array, shape (campaigns,)
        Discordant pairs of either kind and all pairs, ``pairs > 0``; fractions when pairs were discounted.
    difference : float
        Level less reference, within (-1, 1).

    Returns
    -------
    array, shape (campaigns,)
        Above 0 where the data lie above the difference; infinite where the hypothesis leaves no room for chance.

    Source
    ------
    Tango (1998), Statistics in Medicine 17, 891-908: the variance is taken at the estimate that the hypothesis
    allows, so it does not vanish with few or no discordant pairs.
    """
    won, lost, pairs = (np.asarray(counts, dtype=float) for counts in (won, lost, pairs))
    a = 2 * pairs
    b = -won - lost + (2 * pairs - won + lost) * difference
    c = -lost * difference * (1 - difference)
    q = (np.sqrt(np.maximum(0.0, b * b - 4 * a * c)) - b) / (2 * a)
    variance = pairs * (2 * q + difference * (1 - difference))
    top = won - lost - pairs * difference
    with np.errstate(divide="ignore", invalid="ignore"):
        without_chance = np.where(top == 0, 0.0, np.copysign(np.inf, top))
        return np.asarray(np.where(variance > 0, top / np.sqrt(variance), without_chance))


def score_statistic(won: float, lost: float, pairs: float, difference: float) -> float:
    """The same of one campaign."""
    return float(score_statistics(np.asarray(won), np.asarray(lost), np.asarray(pairs), difference))


def score_interval(pairs: Pairs, *, confidence: float = 0.95, corrected: bool = False) -> Estimate:
    """The difference of pass rates, level less reference, with Tango's score interval.

    Parameters
    ----------
    pairs : Pairs
        As counted.
    confidence : float
        Two-sided, within (0, 1).
    corrected : bool
        Take half a pair less as lost for the upper bound: so it also holds far out in the tail, where looks at few
        pairs lie.
    """
    scale = pairs.counted / pairs.pairs
    won, lost, n = pairs.won * scale, pairs.lost * scale, pairs.counted
    z = two_sided_z(confidence)
    edge = 1 - 1e-9

    def bound(wanted: float, lost: float = lost) -> float:
        def off(difference: float) -> float:
            return score_statistic(won, lost, n, difference) - wanted

        low, high = off(-edge), off(edge)
        if low <= 0:  # even the lowest difference is not refuted
            return -1.0
        if high >= 0:
            return 1.0
        return float(scipy.optimize.brentq(off, -edge, edge))

    upper = bound(-z, max(0.0, lost - scale / 2)) if corrected else bound(-z)
    return Estimate(value=pairs.difference, low=bound(z), high=upper, n=pairs.pairs)


def no_worse(pairs: Pairs, margin: float, *, confidence: float = 0.95, corrected: bool = False) -> Evidence:
    """Whether the level is shown to be no worse than the reference by more than a margin.

    Parameters
    ----------
    pairs : Pairs
        As counted.
    margin : float
        Accepted drop in pass rate, within (0, 1).
    confidence : float
        One-sided.
    corrected : bool
        As `score_interval` has it.
    """
    interval = score_interval(pairs, confidence=2 * confidence - 1, corrected=corrected)
    assert interval.low is not None and interval.high is not None  # noqa: S101 - a score interval has both ends
    if interval.low > -margin:
        return Evidence.SHOWN
    return Evidence.SHOWN_WORSE if interval.high < -margin else Evidence.NOT_SHOWN


def exercises_needed(pairs: Pairs, margin: float, *, confidence: float = 0.95) -> int | None:
    """How many exercises in all would settle it, if the shares found so far are the true ones; None: none in
    practice, because they lie too near the margin.
    """
    if no_worse(pairs, margin, confidence=confidence) is not Evidence.NOT_SHOWN:
        return pairs.exercises

    def settles(times: float) -> bool:
        more = Pairs(
            exercises=round(pairs.exercises * times),
            pairs=round(pairs.pairs * times),
            won=round(pairs.won * times),
            lost=round(pairs.lost * times),
            counted=pairs.counted * times,
        )
        return no_worse(more, margin, confidence=confidence) is not Evidence.NOT_SHOWN

    growth = least_growth(settles)
    return None if growth is None else math.ceil(growth * pairs.exercises - SLACK)


def exact_p(won: int, lost: int) -> float:
    """Two-sided exact p of equal pass rates from the discordant pairs (McNemar 1947, Psychometrika 12, 153-157)."""
    # either tail is as long as the other, so both together are twice the shorter
    return min(1.0, 2 * float(scipy.special.bdtr(min(won, lost), won + lost, 0.5))) if won + lost else 1.0


def holm(p_values: Sequence[float]) -> tuple[float, ...]:
    """P values adjusted for having been looked at together (Holm 1979, Scand. J. Statist. 6, 65-70)."""
    order = sorted(range(len(p_values)), key=lambda index: p_values[index])
    adjusted, so_far = [0.0] * len(p_values), 0.0
    for rank, index in enumerate(order):
        so_far = max(so_far, min(1.0, (len(p_values) - rank) * p_values[index]))
        adjusted[index] = so_far
    return tuple(adjusted)


def pass_at_each_k(passed: Sequence[int], asked: Sequence[int]) -> dict[int, float]:
    """Chance that at least one of k samples of an exercise passes, in the mean over exercises, for each k.

    Parameters
    ----------
    passed, asked : sequence of int, shape (n_exercises,)
        Samples passed and asked.

    Returns
    -------
    dict
        k, from 1 to the fewest samples that an exercise was asked -> the chance; empty where nothing was asked.

    Source
    ------
    The unbiased estimator 1 - C(n - c, k) / C(n, k): the chance that k samples drawn without replacement
    from the n that were made hold at least one of the c that passed. The quotient is the product of
    (n - c - i) / (n - i) over i from 0 to k - 1.
    """
    most = min(asked, default=0)
    if most < 1:
        return {}
    n, c, i = np.asarray(asked)[:, None], np.asarray(passed)[:, None], np.arange(most)
    all_fail = np.cumprod(np.clip(n - c - i, 0, None) / (n - i), axis=1)
    return {k: float(chance) for k, chance in enumerate(np.mean(1.0 - all_fail, axis=0), 1)}
