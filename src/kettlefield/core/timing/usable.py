"""Which samples of one point may make a figure: undisturbed, enough of them, and of sessions that agree."""

from collections.abc import Sequence
from itertools import pairwise

import msgspec
import scipy  # its parts are loaded when they are first used

from kettlefield.core.timing.timeline import quantile

LEAST_UNDISTURBED = 3  # samples of a point; where fewer were taken, all of them
SESSIONS_P = 0.01  # sessions differ when chance alone gives such a difference in fewer than 1 of 100 pairs ...
SESSIONS_RATIO = 0.05  # ... and their medians differ by more than a twentieth
FEW_RATIO = 0.25  # with too few samples for such a test: their medians differ by more than a quarter
LEAST_TESTED = 5  # of each session: with fewer no difference could be so certain


class Sample(msgspec.Struct, frozen=True, kw_only=True):
    """One figure of one timed request."""

    value: float
    session: int
    disturbed: str | None


class Usable(msgspec.Struct, frozen=True, kw_only=True):
    """The samples that make a figure, and why they are too few or unlike to make one; empty: they are neither."""

    values: tuple[float, ...]
    doubt: str


def usable(samples: Sequence[Sample]) -> Usable:
    """The undisturbed samples of one point; those of the last session where sessions do not agree.

    Parameters
    ----------
    samples : sequence of Sample
        Of equal requests, in one unit.
    """
    clean = [sample for sample in samples if sample.disturbed is None]
    if samples and len(clean) < min(LEAST_UNDISTURBED, len(samples)):
        reasons = sorted({sample.disturbed for sample in samples if sample.disturbed is not None})
        more = f" and {len(reasons) - 1} more reasons" if len(reasons) > 1 else ""
        said = f"disturbed: {len(samples) - len(clean)} of {len(samples)} samples ({reasons[0]}{more})"
        return Usable(values=tuple(sample.value for sample in clean), doubt=said)
    by_session: dict[int, list[float]] = {}
    for sample in clean:
        by_session.setdefault(sample.session, []).append(sample.value)
    for earlier, later in pairwise(by_session.values()):
        if not sessions_agree(earlier, later):
            middles = " and ".join(f"{quantile(side, 0.5):.3g}" for side in (earlier, later))
            said = f"sessions differ: medians of {middles}; they are not pooled"
            return Usable(values=tuple(list(by_session.values())[-1]), doubt=said)
    return Usable(values=tuple(sample.value for sample in clean), doubt="")


def sessions_agree(earlier: Sequence[float], later: Sequence[float]) -> bool:
    """Whether samples of one point from two sessions may be pooled.

    Parameters
    ----------
    earlier, later : sequence of float, shape (n,), n >= 1
        In one unit, above 0.

    Source
    ------
    Mann and Whitney (1947), Ann. Math. Stat. 18, 50-60, two-sided; a difference that is certain but small is none.
    """
    middles = quantile(earlier, 0.5), quantile(later, 0.5)
    ratio = abs(middles[1] - middles[0]) / middles[0] if middles[0] else 0.0
    if min(len(earlier), len(later)) < LEAST_TESTED:
        return ratio <= FEW_RATIO
    if ratio <= SESSIONS_RATIO:
        return True
    return bool(scipy.stats.mannwhitneyu(list(earlier), list(later)).pvalue >= SESSIONS_P)
