"""Exercises dealt into blocks that resemble each other, before anything is asked."""

import random
from collections.abc import Sequence


def draw_blocks(units: Sequence[str], strata: Sequence[tuple[str, ...]], count: int, seed: int) -> tuple[int, ...]:
    """The block of each exercise, from 1.

    Exercises of one unit stay together. Units are shuffled within their stratum, the strata are put in a drawn order
    that keeps those next to each other that share their first properties, and the units are dealt in turn: so each
    block has its share of every property, to within one.

    Parameters
    ----------
    units : sequence of str, shape (n_exercises,)
        What an exercise belongs to, such as the task that it is a variant of.
    strata : sequence of tuple of str, shape (n_exercises,)
        Its properties, the one that blocks must share most evenly first.
    count : int
        Blocks, at least 1 and no more than there are units.
    seed : int
        The same seed, the same blocks.

    Raises
    ------
    ValueError
        No exercise, or more blocks than units.

    Source
    ------
    Systematic sampling from an ordered list, Cochran (1977), Sampling Techniques, chapter 8.
    """
    first: dict[str, tuple[str, ...]] = {}
    for unit, stratum in zip(units, strata, strict=True):
        first.setdefault(unit, stratum)
    if not 1 <= count <= len(first):
        raise ValueError(f"count={count}: wanted 1 to {len(first)}")
    rng = random.Random(seed)
    ranks: dict[tuple[str, ...], float] = {}

    def place(stratum: tuple[str, ...]) -> tuple[float, ...]:
        prefixes = [stratum[:depth] for depth in range(1, len(stratum) + 1)]
        return tuple(ranks.setdefault(prefix, rng.random()) for prefix in prefixes)

    shuffled = sorted(first)
    rng.shuffle(shuffled)
    dealt = sorted(shuffled, key=lambda unit: place(first[unit]))  # a stable sort: shuffled within a stratum
    block_of = {unit: index % count + 1 for index, unit in enumerate(dealt)}
    return tuple(block_of[unit] for unit in units)
