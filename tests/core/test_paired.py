"""Paired comparison: the score test by hand, by inversion and by simulation; adjustment and estimators on small cases."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import optimize

from kettlefield.core.statistics.paired import (
    Evidence,
    Pairs,
    count_pairs,
    counted_pairs,
    exact_p,
    exercises_needed,
    holm,
    no_worse,
    pass_at_each_k,
    score_interval,
    score_statistic,
)

Z95 = 1.6448536269514722


def plain(won, lost, pairs):
    return Pairs(exercises=pairs, pairs=pairs, won=won, lost=lost, counted=pairs)


def test_at_no_difference_the_score_is_mcnemars():
    assert score_statistic(9, 3, 50, 0.0) == pytest.approx((9 - 3) / math.sqrt(9 + 3))
    assert score_statistic(0, 0, 50, 0.0) == 0.0
    # with nothing discordant the variance comes from the hypothesis alone: n d / sqrt(n d (1 - d))
    assert score_statistic(0, 0, 50, -0.1) == pytest.approx(50 * 0.1 / math.sqrt(50 * (0.1 * 0.9)))


@given(st.integers(0, 12), st.integers(0, 12), st.integers(25, 120), st.floats(-0.4, 0.4))
def test_the_variance_is_that_of_the_most_likely_shares_under_the_hypothesis(won, lost, pairs, difference):
    def unlikeliness(q):  # of a trinomial with shares q + difference, q and the rest
        shares = (q + difference, q, 1 - 2 * q - difference)
        counts = (won, lost, pairs - won - lost)
        return -sum(c * math.log(max(s, 1e-300)) for c, s in zip(counts, shares, strict=True) if c)

    low, high = max(0.0, -difference), (1 - difference) / 2
    q = optimize.minimize_scalar(unlikeliness, bounds=(low, high), method="bounded", options={"xatol": 1e-10}).x
    variance = pairs * (2 * q + difference - difference**2)
    if variance > 1e-3:
        wanted = (won - lost - pairs * difference) / math.sqrt(variance)
        assert score_statistic(won, lost, pairs, difference) == pytest.approx(wanted, abs=0.02)


@given(st.integers(0, 10), st.integers(0, 10), st.integers(20, 90))
def test_the_interval_inverts_the_test(won, lost, pairs):
    found = score_interval(plain(won, lost, pairs), confidence=0.90)
    assert -1 <= found.low <= found.value <= found.high <= 1
    for bound, z in ((found.low, Z95), (found.high, -Z95)):
        if abs(bound) < 1:
            assert score_statistic(won, lost, pairs, bound) == pytest.approx(z, abs=1e-3)


def test_no_worse_is_shown_refuted_or_left_open_and_says_what_would_settle_it():
    assert no_worse(plain(1, 1, 72), 0.10) is Evidence.SHOWN
    assert no_worse(plain(0, 20, 72), 0.10) is Evidence.SHOWN_WORSE
    open_one = plain(1, 3, 40)
    assert no_worse(open_one, 0.10) is Evidence.NOT_SHOWN
    needed = exercises_needed(open_one, 0.10)
    times = needed / 40
    assert needed > 40 and no_worse(plain(round(times), round(3 * times), needed), 0.10) is Evidence.SHOWN
    assert exercises_needed(plain(0, 4, 40), 0.10) is None  # exactly at the margin
    assert exercises_needed(plain(1, 1, 72), 0.10) == 72


def test_pairs_are_counted_by_exercise_and_sample():
    level = [[True, True], [False, True], [False, False], [True, True]]
    reference = [[True, True], [True, True], [True, True], [False, True]]
    found = count_pairs(level, reference)
    assert (found.exercises, found.pairs, found.won, found.lost) == (4, 8, 1, 3)
    assert found.difference == pytest.approx(-0.25) and 4 <= found.counted <= 8
    assert count_pairs([[True], [False]], [[True], [True]]).counted == 2  # one sample each: nothing is discounted
    assert count_pairs([[True, True]] * 3, [[True, True]] * 3).counted == 3  # no variance to judge by
    assert count_pairs([[True, False]], [[False, True]]).counted == 1
    with pytest.raises(ValueError, match="same exercises"):
        count_pairs([[True]], [[True, False]])


@pytest.mark.parametrize("samples", [1, 3])
@pytest.mark.parametrize(("exercises", "margin"), [(40, 0.10), (72, 0.05), (150, 0.10)])
def test_at_the_margin_no_worse_is_said_in_at_most_one_of_twenty_campaigns(samples, exercises, margin):
    rng, count, discordant = np.random.default_rng(4), 2000, 0.2
    won_share, lost_share = (discordant - margin) / 2, (discordant + margin) / 2
    if samples == 1:
        lean = np.tile([won_share, lost_share, 1 - discordant], (count, exercises, 1))
    else:
        lean = rng.dirichlet([won_share, lost_share, 1 - discordant], (count, exercises))
    draw = rng.random((count, exercises, samples))
    won = (draw < lean[..., :1]).sum(axis=2)
    lost = ((draw >= lean[..., :1]) & (draw < lean[..., :2].sum(axis=2, keepdims=True))).sum(axis=2)
    worth = counted_pairs(won - lost, np.full(exercises, float(samples)), (won + lost).sum(axis=1))
    scale = worth / (exercises * samples)
    said = np.mean(
        [
            score_statistic(w, x, n, -margin) > Z95
            for w, x, n in zip(won.sum(axis=1) * scale, lost.sum(axis=1) * scale, worth, strict=True)
        ]
    )
    assert said <= 0.06 + 2 * math.sqrt(0.06 * 0.94 / count)


def test_the_interval_covers_the_truth_as_often_as_it_says():
    rng, inside = np.random.default_rng(8), 0
    for _ in range(1000):
        draw = rng.random(72)
        won, lost = int((draw < 0.05).sum()), int(((draw >= 0.05) & (draw < 0.17)).sum())
        found = score_interval(plain(won, lost, 72))
        inside += found.low <= -0.07 <= found.high
    assert 0.93 <= inside / 1000 <= 0.98


def test_exact_p_holm_and_the_chance_of_one_in_k():
    assert exact_p(5, 0) == pytest.approx(2 / 32) and exact_p(0, 0) == 1.0
    assert holm([0.01, 0.04, 0.03]) == pytest.approx((0.03, 0.06, 0.06))
    assert holm([0.6, 0.7]) == pytest.approx((1.0, 1.0)) and holm([]) == ()
    # of 4 samples 2 passed: two drawn miss both in 1 of 6 ways
    assert pass_at_each_k([2, 4], [4, 5])[2] == pytest.approx((5 / 6 + 1) / 2)
    assert pass_at_each_k([1], [1]) == {1: 1.0} and pass_at_each_k([], []) == {}
    by_hand = [1 - math.comb(250 - 31, k) / math.comb(250, k) for k in range(1, 251)]
    assert list(pass_at_each_k([31], [250]).values()) == pytest.approx(by_hand)
