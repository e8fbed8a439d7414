"""How similar the members of a group are: variants of one task, samples of one exercise."""

from collections.abc import Sequence

import numpy as np
import scipy  # its parts are loaded when they are first used

from kettlefield.core.statistics.estimate import Estimate


def intraclass_correlation(groups: Sequence[Sequence[float]], *, confidence: float = 0.95) -> Estimate | None:
    """Intra-class correlation: which share of the variance lies between groups and not within them.

    1: the members of a group are copies of each other; 0: they are no more similar than members of different groups.

    Parameters
    ----------
    groups : sequence of sequence of float
        The values of each group's members, groups with one member or none are left out.
    confidence : float
        Two-sided, within (0, 1).

    Returns
    -------
    Estimate or None
        ``n`` is the number of groups. None where fewer than two groups have two members, or nothing varies.

    Source
    ------
    One-way analysis of variance, ICC(1) of Shrout and Fleiss (1979), Psychological Bulletin 86, 420-428, with their
    interval by F; for groups of different sizes the mean size of Donner and Koval (1980), Biometrics 36, 19-25.
    For values of 0 and 1 the interval is an approximation.
    """
    kept = [np.asarray(group, dtype=float) for group in groups if len(group) > 1]
    if len(kept) < 2:
        return None
    sizes = np.array([len(group) for group in kept], dtype=float)
    members, count = sizes.sum(), len(kept)
    means = np.array([group.mean() for group in kept])
    whole = float(np.concatenate(kept).mean())
    between = float((sizes * (means - whole) ** 2).sum()) / (count - 1)
    within = float(sum(((group - group.mean()) ** 2).sum() for group in kept)) / (members - count)
    if between + within == 0:
        return None
    size = float((members - (sizes**2).sum() / members) / (count - 1))
    if within == 0:
        return Estimate(value=1.0, low=1.0, high=1.0, n=count)
    ratio, tail = between / within, (1 - confidence) / 2
    degrees = (count - 1, members - count)
    low, high = (ratio / scipy.stats.f.ppf(1 - tail, *degrees), ratio * scipy.stats.f.ppf(1 - tail, *degrees[::-1]))
    value, least, most = ((part - 1) / (part + size - 1) for part in (ratio, low, high))
    return Estimate(value=value, low=least, high=most, n=count)
