"""The bias that a judge model's choices show: for a place, for length; and whether they follow the checks."""

import math
from collections.abc import Sequence

import msgspec
import numpy as np

from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.intervals import pass_ratio, two_sided_z
from kettlefield.marking.judge_prompt import Choice


class Compared(msgspec.Struct, frozen=True, kw_only=True):
    """One answer of a judge to a pair."""

    pair: str  # the same in both orders and all rounds
    choice: Choice
    longer: Choice  # which of the two is longer; "equal" when they are as long
    better: Choice  # which the checks find better; "equal" when they rate them equal


def position_bias(compared: Sequence[Compared], *, confidence: float = 0.95) -> Estimate | None:
    """How much more often the first place wins than the second: 0 without a lean, 1 when it always does.

    Every pair is asked in both orders as often, so that what the replies are worth cancels out. The interval
    takes a pair's answers together, since they depend on each other: a normal interval over the means of pairs.
    """
    signs = {"first": 1.0, "second": -1.0, "equal": 0.0}
    by_pair: dict[str, list[float]] = {}
    for one in compared:
        by_pair.setdefault(one.pair, []).append(signs[one.choice])
    if not by_pair:
        return None
    means = np.array([np.mean(values) for values in by_pair.values()])
    value = float(means.mean())
    if len(means) < 2:
        return Estimate(value=value, low=None, high=None, n=len(means))
    reach = two_sided_z(confidence) * float(means.std(ddof=1)) / math.sqrt(len(means))
    return Estimate(value=value, low=max(-1.0, value - reach), high=min(1.0, value + reach), n=len(means))


def length_bias(compared: Sequence[Compared], *, confidence: float = 0.95) -> Estimate | None:
    """How often the longer of two wins that the checks rate equal, of those decided: 0.5 without a lean."""
    decided = [one for one in compared if one.better == "equal" != one.longer and one.choice != "equal"]
    return _share([(one.pair, one.choice == one.longer) for one in decided], confidence)


def follows_checks(compared: Sequence[Compared], *, confidence: float = 0.95) -> Estimate | None:
    """How often the one wins that the checks find better, of those decided: 0.5 is chance."""
    decided = [one for one in compared if one.better != "equal" and one.choice != "equal"]
    return _share([(one.pair, one.choice == one.better) for one in decided], confidence)


def same_in_both_orders(pairs: Sequence[tuple[Choice, Choice]], *, confidence: float = 0.95) -> Estimate | None:
    """How often the same reply wins whichever comes first; of pairs, the choice in one order and in the other."""
    turned = {"first": "second", "second": "first", "equal": "equal"}
    return _share([(str(at), one == turned[other]) for at, (one, other) in enumerate(pairs)], confidence)


def _share(held: Sequence[tuple[str, bool]], confidence: float) -> Estimate | None:
    """A share whose interval takes the answers to one pair together."""
    by_pair: dict[str, list[bool]] = {}
    for pair, held_there in held:
        by_pair.setdefault(pair, []).append(held_there)
    if not by_pair:
        return None
    return pass_ratio([sum(v) for v in by_pair.values()], [len(v) for v in by_pair.values()], confidence=confidence)
