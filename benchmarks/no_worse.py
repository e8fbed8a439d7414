"""How often "no worse than the reference" is said when the level is worse by exactly the margin.

Made-up campaigns, the true drop exactly at the margin, one-sided 5 %: a method that can be trusted says it in at
most 5 of 100. With several samples an exercise the samples of one exercise share its merit.

    python benchmarks/no_worse.py [--campaigns 4000]
"""

import argparse

import numpy as np
from scipy import stats

from kettlefield.core.statistics.paired import counted_pairs, score_statistics

EXERCISES = (16, 40, 72, 150)
MARGINS = (0.05, 0.10)
DISCORDANT = (0.12, 0.25)
SAMPLES = (1, 2, 4)
Z = float(stats.norm.ppf(0.95))


def campaigns(
    rng: np.random.Generator, count: int, exercises: int, samples: int, margin: float, discordant: float
) -> tuple[np.ndarray, np.ndarray]:
    """Samples won and lost by exercise, each of shape (campaigns, exercises).

    Each exercise draws its own merit: it biases to either level, or to neither, and its samples share that.
    """
    lost_share, won_share = (discordant + margin) / 2, (discordant - margin) / 2
    if samples == 1:
        draw = rng.random((count, exercises))
        return (draw < won_share).astype(int), ((draw >= won_share) & (draw < won_share + lost_share)).astype(int)
    # half of the lean is the exercise's own, half each sample's luck
    alpha = np.array([won_share, lost_share, 1 - won_share - lost_share])
    lean = rng.dirichlet(alpha, (count, exercises))
    draw = rng.random((count, exercises, samples))
    won = (draw < lean[..., :1]).sum(axis=2)
    lost = ((draw >= lean[..., :1]) & (draw < lean[..., :1] + lean[..., 1:2])).sum(axis=2)
    return won, lost


def said(won: np.ndarray, lost: np.ndarray, samples: int, margin: float) -> dict[str, float]:
    """Share of campaigns in which each method says "no worse"."""
    exercises = won.shape[1]
    pairs = exercises * samples
    nets = won - lost
    all_won, all_lost = won.sum(axis=1), lost.sum(axis=1)
    shares = nets / samples
    mean, spread = shares.mean(axis=1), shares.std(axis=1, ddof=1) / np.sqrt(exercises)
    t = float(stats.t.ppf(0.95, exercises - 1))
    rng = np.random.default_rng(2)
    some = shares[:400]
    drawn = np.stack([some[:, rng.integers(0, exercises, exercises)].mean(axis=1) for _ in range(600)])
    worth = counted_pairs(nets, np.full(exercises, samples, dtype=float), all_won + all_lost)
    scale = worth / pairs
    return {
        "normal": float(np.mean(mean - Z * spread > -margin)),
        "t": float(np.mean(mean - t * spread > -margin)),
        "bootstrap": float(np.mean(np.quantile(drawn, 0.05, axis=0) > -margin)),
        "score, all pairs": float(
            np.mean(score_statistics(all_won, all_lost, np.full(len(won), float(pairs)), -margin) > Z)
        ),
        "score, counted": float(np.mean(score_statistics(all_won * scale, all_lost * scale, worth, -margin) > Z)),
    }


def main() -> None:
    """Print a table: the largest share over the discordant shares, for each size, margin and number of samples."""
    parser = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    parser.add_argument("--campaigns", type=int, default=4000)
    args = parser.parse_args()
    rng = np.random.default_rng(1)
    print('share of campaigns that say "no worse" at the margin; the higher of two discordant shares')
    heads: list[str] = []
    for samples in SAMPLES:
        for exercises in EXERCISES:
            for margin in MARGINS:
                found = [
                    said(*campaigns(rng, args.campaigns, exercises, samples, margin, share), samples, margin)
                    for share in DISCORDANT
                ]
                if not heads:
                    heads = list(found[0])
                    print(f"{'samples':>8}{'exercises':>10}{'margin':>8}" + "".join(f"{head:>18}" for head in heads))
                worst = [max(one[head] for one in found) for head in heads]
                print(f"{samples:8}{exercises:10}{margin:8.2f}" + "".join(f"{share:18.3f}" for share in worst))


if __name__ == "__main__":
    main()
