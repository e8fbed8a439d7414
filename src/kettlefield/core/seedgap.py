"""The same candidate on two seeds of one suite: is the first clearly better, as memorised answers would be?"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

RESAMPLES = 9999  # of sign flips; up to 13 exercises all of them are tried


@dataclass(frozen=True, slots=True, kw_only=True)
class SeedGap:
    """What two seeds tell."""

    difference: float  # mean over exercises of the share solved on the first seed less that on the second
    p: float  # chance of a gap at least this large if the seeds were alike
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
    from scipy import stats  # noqa: PLC0415 - takes more than a second, and few need it

    found = stats.permutation_test(
        (a, b),
        lambda x, y, axis: np.mean(x, axis=axis) - np.mean(y, axis=axis),
        permutation_type="samples",
        alternative="greater",
        n_resamples=RESAMPLES,
        vectorized=True,
        random_state=np.random.default_rng(1),
    )
    return SeedGap(difference=float(np.mean(a - b)), p=float(found.pvalue), exercises=len(a))
