"""Boundaries of repeated looks against published values and against chance; blocks; whose turn it is."""

from collections import Counter

import numpy as np
import pytest

from kettlefield.campaign.turns import Standing, Turn, blocks_worth_a_start, next_turn
from kettlefield.core.statistics.block_draw import draw_blocks
from kettlefield.core.statistics.intervals import pass_ratio, two_sided_z
from kettlefield.core.statistics.paired import count_pairs, no_worse, score_interval
from kettlefield.core.statistics.sequential import boundaries, chance_decided, confidence_at, spent, spent_late

pytestmark = pytest.mark.fast


@pytest.mark.parametrize(
    ("shares", "error", "spend", "published"),
    [
        # Lan-DeMets after O'Brien and Fleming, five equal looks: as in Reboussin, DeMets, Kim and Lan (2000), Controlled
        # Clinical Trials 21, 190-207
        ([0.2, 0.4, 0.6, 0.8, 1.0], 0.025, spent_late, (4.877, 3.357, 2.680, 2.290, 2.031)),
        ([0.2, 0.4, 0.6, 0.8, 1.0], 0.05, spent_late, (4.229, 2.888, 2.298, 1.962, 1.740)),
        ([0.5, 1.0], 0.025, spent_late, (2.963, 1.969)),
        # one look at the end is the plain quantile, whatever spends
        ([1.0], 0.05, spent, (1.645,)),
        # the first look of the power family: the quantile of what it may spend, 0.05 x 0.5 ** 1.5
        ([0.5], 0.05, spent, (2.103,)),
    ],
)
def test_boundaries_are_the_published_ones(shares, error, spend, published):
    assert boundaries(shares, error, spend) == pytest.approx(published, abs=2e-3)


@pytest.mark.parametrize("shares", [[0.1, 0.3, 0.35, 0.9, 1.0], [k / 20 for k in range(1, 21)], [0.31, 0.62]])
def test_so_many_cross_by_chance_as_may_and_so_many_decide_as_foreseen(shares):
    rng, at = np.random.default_rng(5), np.array(shares)
    walks = np.cumsum(rng.normal(size=(60_000, len(at))) * np.sqrt(np.diff(at, prepend=0)), axis=1)
    bounds = np.array(boundaries(shares, 0.05))
    crossed = (walks / np.sqrt(at) >= bounds).any(axis=1).mean()
    assert crossed == pytest.approx(spent(shares[-1], 0.05), abs=0.004)
    moved = np.abs((walks + 2.5 * at) / np.sqrt(at)) >= bounds
    by_look = np.maximum.accumulate(moved, axis=1).mean(axis=0)
    assert chance_decided(2.5, shares, 0.05) == pytest.approx(by_look, abs=0.01)
    # from what was seen at a look: those walks alone that stand there and have not crossed
    seen = 0.8
    near = (np.abs(walks[:, 0] / np.sqrt(at[0]) - seen) < 0.05) if len(at) > 1 else None
    later = np.abs(walks[near][:, 1:] / np.sqrt(at[1:])) >= bounds[1:]
    chance = chance_decided(0.0, shares, 0.05, seen=seen, at=shares[0])
    assert chance[0] == 0.0
    assert chance[-1] == pytest.approx(later.any(axis=1).mean(), abs=0.03)


def test_what_makes_no_sense_is_refused():
    for shares in ([], [0.0, 1.0], [0.5, 0.5], [0.6, 0.4]):
        with pytest.raises(ValueError, match="rising"):
            boundaries(shares, 0.05)
    with pytest.raises(ValueError, match="wanted"):
        spent(0.5, 0.7)
    with pytest.raises(ValueError, match="wanted 1 to 2"):
        draw_blocks(["a", "b"], [("x",), ("x",)], 3, 1)
    assert 0.95 < confidence_at([0.25, 0.5], 0.95) < confidence_at([0.25], 0.95) < 1


def test_at_a_look_bounds_are_wider_and_samples_count_for_less():
    level = [[True, True, True]] * 9 + [[False, False, True]]
    pairs = count_pairs(level, [[True, True, True]] * 10)
    assert (pairs.differing, pairs.pairs) == (1, 30)
    assert 10 <= pairs.at_look.counted < pairs.counted
    plain, look = score_interval(pairs, confidence=0.9), score_interval(pairs.at_look, confidence=0.9, corrected=True)
    assert look.low < plain.low and look.high > plain.high and look.value == plain.value
    assert no_worse(pairs, 0.5) == "shown"
    ones = count_pairs([[True]] * 10, [[True]] * 10)
    assert ones.at_look == ones  # single samples are worth what they are
    plain, look = pass_ratio([1] * 8 + [0] * 2, [1] * 10), pass_ratio([1] * 8 + [0] * 2, [1] * 10, corrected=True)
    assert look.low < plain.low < plain.high < look.high
    assert two_sided_z(0.9) == pytest.approx(1.645, abs=1e-3)


def test_blocks_have_their_share_of_everything_and_keep_variants_together():
    kinds = ["write"] * 23 + ["repair"] * 14 + ["page"] * 3
    units = [f"t{number}" for number in range(40)] * 2
    strata = [(kind, str(number % 3)) for number, kind in enumerate(kinds)] * 2
    blocks = draw_blocks(units, strata, 8, seed=11)
    assert blocks[:40] == blocks[40:]
    sizes = Counter(blocks[:40])
    assert set(sizes) == set(range(1, 9)) and set(sizes.values()) == {5}
    for kind in set(kinds):
        counts = [sum(b == block and k == kind for b, k in zip(blocks[:40], kinds, strict=True)) for block in sizes]
        assert max(counts) - min(counts) <= 1
    assert blocks == draw_blocks(units, strata, 8, seed=11) != draw_blocks(units, strata, 8, seed=12)


def standing(name, asked=0, *, reference="m@f16", wants=True, measured=True, **facts):
    return Standing(
        candidate=name,
        reference=None if name == reference else reference,
        is_baseline=facts.pop("is_baseline", False),
        asked=asked,
        wants_more=wants,
        to_be_measured=not measured,
        **facts,
    )


def test_turns_follow_the_reference_and_nobody_is_asked_without_need():
    f16, q8, q4 = standing("m@f16", 1, wants=False), standing("m@q8", 1), standing("m@q4", 0)
    assert next_turn([f16, q8, q4], 8) == Turn(candidate="m@f16", least=2, upto=2)  # q8 cannot go on before it
    assert next_turn([f16, q4], 8) == Turn(candidate="m@q4", upto=1)  # as far as the reference was asked
    slow = standing("m@f16", 1, wants=False, start_s=25, block_s=10)
    assert next_turn([slow, q8], 8) == Turn(candidate="m@f16", least=4, upto=4)  # a start is worth three blocks
    assert (blocks_worth_a_start(25, 10), blocks_worth_a_start(25, 0)) == (3, 1)
    assert next_turn([f16, q8], 8, {"m@f16"}) is None  # it does not get on
    assert next_turn([f16, standing("m@q8", 3, wants=False)], 8) is None
    assert next_turn([standing("m@f16", 8)], 8) is None
    assert next_turn([standing("m@q4", 0, wants=False, measured=False)], 8) == Turn(candidate="m@q4")
    alone = standing("n@q4", 2, reference=None)
    assert next_turn([alone], 8) == Turn(candidate="n@q4", upto=8)
    baseline = standing("big@q8", 0, reference=None, wants=False, is_baseline=True)
    assert next_turn([baseline, standing("m@q8", 3, wants=False)], 8) == Turn(candidate="big@q8", least=3, upto=3)


def test_within_a_budget_the_likeliest_decision_for_the_time_comes_first():
    f16 = standing("m@f16", 4, wants=False)
    far = standing("m@q8", 1, chance=0.1, start_s=10, block_s=10)
    near = standing("m@q4", 1, chance=0.9, start_s=10, block_s=10)
    slow = standing("m@q2", 1, chance=0.9, start_s=300, block_s=300)
    assert next_turn([f16, far, near, slow], 8, by_chance=True).candidate == "m@q4"
    assert next_turn([f16, far, near, slow], 8).candidate == "m@q8"
