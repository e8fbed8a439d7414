"""How often a campaign that stops when it is decided decides wrongly, and how many exercises it asks.

Made-up campaigns, one-sided 5 %, looked at after every block. "No worse than the reference" at a true drop of exactly
the margin: met and not met are then both wrong, each in at most 5 of 100. The share of the exercises that were asked
is shown at no drop and at twice the margin; "fixed" is one look at the end. The last lines are of a pass rate against a
threshold, the true rate exactly there.

    python benchmarks/sequential.py [--campaigns 4000] [--spend power | late] [--every-line]
"""

import argparse
import itertools
from dataclasses import dataclass

import numpy as np
from no_worse import campaigns
from scipy import optimize, stats

from kettlefield.core.statistics.paired import counted_pairs, score_statistics
from kettlefield.core.statistics.sequential import Spend, boundaries, chance_decided, spent, spent_late

EXERCISES, SAMPLES, LOOKS = (40, 80, 160, 320), (1, 3), (2, 5, 10, 20)
MARGINS, DISCORDANT = (0.05, 0.10), (0.05, 0.15, 0.25)
THRESHOLDS = (0.5, 0.8, 0.9)
ERROR = 0.05
SPENDS: dict[str, Spend] = {"power": spent, "late": spent_late}
Z = float(stats.norm.ppf(1 - ERROR))


@dataclass(frozen=True, slots=True, kw_only=True)
class Ends:
    """How many of the campaigns ended how."""

    met: float
    not_met: float
    fixed_met: float
    fixed_not_met: float
    asked: float  # mean share of the exercises
    bias: float  # mean of the difference where it stopped, less the true one


def ends_of(
    above: np.ndarray, below: np.ndarray, values: np.ndarray, truth: float, ends: np.ndarray, bounds: np.ndarray
) -> Ends:
    """From the scores at every look for either side, and the figures, each of shape (campaigns, looks)."""
    up, down = above >= bounds, -below >= bounds
    never = len(ends)
    first_up = np.where(up.any(axis=1), up.argmax(axis=1), never)
    first_down = np.where(down.any(axis=1), down.argmax(axis=1), never)
    last = np.minimum(np.minimum(first_up, first_down), never - 1)
    return Ends(
        met=float(np.mean(first_up < first_down)),
        not_met=float(np.mean(first_down < first_up)),
        fixed_met=float(np.mean(above[:, -1] > Z)),
        fixed_not_met=float(np.mean(-below[:, -1] > Z)),
        asked=float(ends[last].mean() / ends[-1]),
        bias=float(values[np.arange(len(values)), last].mean() - truth),
    )


def paired(
    won: np.ndarray, lost: np.ndarray, samples: int, margin: float, drop: float, ends: np.ndarray, bounds: np.ndarray
) -> Ends:
    """A criterion "no worse than the reference", looked at after each of the ends."""
    above, below, values = [], [], []
    for end in ends:
        nets, discordant = won[:, :end] - lost[:, :end], (won[:, :end] + lost[:, :end]).sum(axis=1)
        differing = ((won[:, :end] + lost[:, :end]) > 0).sum(axis=1)
        worth = counted_pairs(nets, np.full(end, float(samples)), discordant, differing)
        scale = worth / (end * samples)
        values.append(nets.sum(axis=1) / (end * samples))
        all_won, all_lost = won[:, :end].sum(axis=1) * scale, lost[:, :end].sum(axis=1) * scale
        above.append(score_statistics(all_won, all_lost, worth, -margin))
        below.append(score_statistics(all_won, np.maximum(0, all_lost - scale / 2), worth, -margin))
    return ends_of(np.array(above).T, np.array(below).T, np.array(values).T, -drop, ends, bounds)


def against_threshold(passed: np.ndarray, threshold: float, ends: np.ndarray, bounds: np.ndarray) -> Ends:
    """A criterion "at least", one sample an exercise, by Wilson's interval."""
    counts = np.cumsum(passed, axis=1)[:, ends - 1]
    below, above = (
        ((counts + step) / ends - threshold) / np.sqrt(threshold * (1 - threshold) / ends) for step in (0.5, -0.5)
    )
    return ends_of(above, below, counts / ends, threshold, ends, bounds)


def looks_at(exercises: int, looks: int) -> np.ndarray:
    """After how many exercises."""
    return np.unique(np.round(np.arange(1, looks + 1) * exercises / looks).astype(int))


def inflation(looks: int, power: float, spend: Spend) -> float:
    """How many times the exercises of one look at the end it takes for the same power, where every look is wanted."""
    shares = [k / looks for k in range(1, looks + 1)]
    fixed = Z + float(stats.norm.ppf(power))
    drift = optimize.brentq(lambda at: chance_decided(at, shares, ERROR, spend=spend)[-1] - power, 1.0, 6.0)
    return (drift / fixed) ** 2


def main() -> None:
    """Print the tables."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--campaigns", type=int, default=4000)
    parser.add_argument("--spend", choices=tuple(SPENDS), default="power")
    parser.add_argument("--every-line", action="store_true", help="not only the worst and the mean over discordance")
    args = parser.parse_args()
    rng, spend = np.random.default_rng(1), SPENDS[args.spend]
    allowed = ERROR + 0.01 + 2 * np.sqrt(ERROR * (1 - ERROR) / args.campaigns)
    print(f"wrong decisions allowed: {allowed:.3f}; exercises for the same power, of one look's:")
    for looks in LOOKS:
        print(f"  {looks:2} looks: " + ", ".join(f"{inflation(looks, p, spend):.3f} at {p:.0%}" for p in (0.8, 0.9)))
    print(
        f"{'exercises':>9}{'samples':>8}{'margin':>7}{'differ':>7}{'looks':>6} | {'wrong met':>9}{'fixed':>7}"
        f" | {'wrong not':>9}{'fixed':>7} | no drop: {'met':>5}{'fixed':>6}{'asked':>6}{'bias':>7} | twice: {'not':>5}"
        f"{'fixed':>6}{'asked':>6}{'bias':>7}"
    )
    worst, clear, most = [0.0, 0.0], [], 0.0
    for exercises, samples, margin, discordant, looks in itertools.product(
        EXERCISES, SAMPLES, MARGINS, DISCORDANT, LOOKS
    ):
        ends = looks_at(exercises, looks)
        bounds = np.array(boundaries(list(ends / exercises), ERROR, spend))
        at, none, twice = (
            paired(
                *campaigns(rng, args.campaigns, exercises, samples, drop, max(discordant, drop)),
                *(samples, margin, drop, ends, bounds),
            )
            for drop in (margin, 0.0, 2 * margin)
        )
        worst = [max(worst[0], at.met), max(worst[1], at.not_met)]
        most = max(most, at.asked, none.asked, twice.asked)
        if looks >= 10:
            clear += [
                one.asked for one, power in ((none, none.fixed_met), (twice, twice.fixed_not_met)) if power > 0.995
            ]
        is_wrong = at.met > allowed or at.not_met > allowed
        if args.every_line or is_wrong or looks == 10:
            print(
                f"{exercises:9}{samples:8}{margin:7.2f}{discordant:7.2f}{looks:6} | {at.met:9.3f}{at.fixed_met:7.3f}"
                f" | {at.not_met:9.3f}{at.fixed_not_met:7.3f} |          {none.met:5.2f}{none.fixed_met:6.2f}"
                f"{none.asked:6.2f}{none.bias:7.3f} |        {twice.not_met:5.2f}{twice.fixed_not_met:6.2f}"
                f"{twice.asked:6.2f}{twice.bias:7.3f}"
                f"{'  more than allowed' if is_wrong else ''}"
            )
    print(f"worst: {worst[0]:.3f} wrongly met, {worst[1]:.3f} wrongly not met; asked at most {most:.2f}")
    print(
        f"clear cases (one look decides 99.5 %), 10 and 20 looks: asked {np.mean(clear):.2f} in the mean, "
        f"{min(clear):.2f} to {max(clear):.2f}, n = {len(clear)}"
    )
    print("pass rate at its threshold: threshold, exercises, looks, wrongly met, wrongly not met")
    for threshold, exercises, looks in itertools.product(THRESHOLDS, EXERCISES, LOOKS):
        ends = looks_at(exercises, looks)
        passed = rng.random((args.campaigns, exercises)) < threshold
        at = against_threshold(passed, threshold, ends, np.array(boundaries(list(ends / exercises), ERROR, spend)))
        is_wrong = at.met > allowed or at.not_met > allowed
        print(f"{threshold:6.2f}{exercises:6}{looks:4}{at.met:8.3f}{at.not_met:8.3f}{'  more' if is_wrong else ''}")


if __name__ == "__main__":
    main()
