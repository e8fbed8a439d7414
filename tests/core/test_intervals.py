"""Intervals on known values, by hand, by enumeration or from published examples."""

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from kettlefield.core.statistics.intervals import (
    pass_ratio,
    quantile_interval,
    samples_for_bound,
    weighted_ratio,
    wilson_interval,
)
from kettlefield.core.statistics.likeness import intraclass_correlation
from kettlefield.core.statistics.paired import seed_gap


@pytest.mark.parametrize(
    ("passed", "total", "low", "high"),
    [
        # by hand: with no pass the upper bound is z*z / (n + z*z) = 3.8415 / 13.8415
        (0, 10, 0.0, 0.27753),
        (10, 10, 0.72247, 1.0),
        # Newcombe (1998), Statistics in Medicine 17, 857-872, table I, method 3
        (81, 263, 0.2553, 0.3662),
        (15, 148, 0.0624, 0.1605),
        (0, 20, 0.0, 0.1611),
        (1, 29, 0.0061, 0.1718),
    ],
)
def test_wilson_interval_matches_published_values(passed, total, low, high):
    assert wilson_interval(passed, total) == pytest.approx((low, high), abs=1e-4)


@pytest.mark.parametrize(("passed", "total"), [(-1, 5), (6, 5), (0, 0)])
def test_wilson_interval_refuses_impossible_counts(passed, total):
    with pytest.raises(ValueError, match="n_passed"):
        wilson_interval(passed, total)


def test_a_pass_ratio_with_one_sample_an_exercise_is_wilsons():
    found = pass_ratio([1, 0, 1, 1], [1, 1, 1, 1])
    assert (found.low, found.high) == pytest.approx(wilson_interval(3, 4))
    assert (found.value, found.n) == (0.75, 4)


def test_samples_that_always_agree_count_as_one():
    # five exercises, four samples each, all four same: there is no more in it than five trials tell
    found = pass_ratio([4, 4, 4, 0, 0], [4] * 5)
    assert (found.low, found.high) == pytest.approx(wilson_interval(3, 5))
    all_passed = pass_ratio([4] * 5, [4] * 5)
    assert (all_passed.low, all_passed.high) == pytest.approx(wilson_interval(5, 5))


def test_samples_that_differ_freely_count_in_full():
    # two of four in every exercise: no variance between exercises at all, so nothing is discounted
    found = pass_ratio([2] * 6, [4] * 6)
    assert (found.low, found.high) == pytest.approx(wilson_interval(12, 24))


@given(st.lists(st.integers(0, 4), min_size=1, max_size=30))
def test_a_pass_ratio_lies_inside_its_interval(passed):
    found = pass_ratio(passed, [4] * len(passed))
    assert 0 <= found.low <= found.value <= found.high <= 1


def test_quantile_bounds_hold_by_the_binomial_law():
    values = [float(number) for number in range(1, 41)]
    found = quantile_interval(values, 0.5, confidence=0.95)
    # P(the r-th smallest is above the median) <= 2.5 % on either side, and one rank further in it is not
    low, high = int(found.low), int(found.high)
    assert stats.binom.cdf(low - 1, 40, 0.5) <= 0.025 < stats.binom.cdf(low, 40, 0.5)
    assert stats.binom.sf(high - 1, 40, 0.5) <= 0.025 < stats.binom.sf(high - 2, 40, 0.5)
    assert found.value == 20.5


@pytest.mark.parametrize(("count", "has_upper"), [(58, False), (59, True)])
def test_an_upper_bound_for_p95_takes_59_values(count, has_upper):
    # by hand: 0.95**59 = 0.0485 <= 0.05 < 0.95**58 = 0.0510
    found = quantile_interval([float(v) for v in range(count)], 0.95, confidence=0.90)
    assert (found.high is not None) is has_upper
    assert samples_for_bound(0.95, confidence=0.95) == 59


def test_one_value_bounds_nothing():
    found = quantile_interval([3.0], 0.5)
    assert (found.value, found.low, found.high, found.n) == (3.0, None, None, 1)


@pytest.mark.parametrize(("values", "q"), [([], 0.5), ([1.0], 0.0), ([1.0], 1.0)])
def test_quantile_interval_refuses_what_has_no_answer(values, q):
    with pytest.raises(ValueError, match="quantile|wanted"):
        quantile_interval(values, q)


def test_quantile_interval_covers_the_true_median_often_enough():
    import numpy as np

    rng = np.random.default_rng(7)
    hits = 0
    for _ in range(2000):
        found = quantile_interval(rng.exponential(size=25), 0.5, confidence=0.95)
        hits += found.low <= math.log(2) <= found.high
    # the exact coverage of these ranks is 0.957; three standard errors of 2,000 draws are 0.014
    assert hits / 2000 == pytest.approx(0.957, abs=0.014)


def test_a_weighted_ratio_is_a_weighted_mean_and_covers_it():
    shares = [(3, [1] * 18 + [0] * 2, [1] * 20), (1, [1] * 10 + [0] * 30, [1] * 40)]
    found = weighted_ratio(shares)
    assert found.value == pytest.approx(0.75 * 0.9 + 0.25 * 0.25) and found.n == 60
    # the textbook normal interval of a stratified mean, not far from Wilson's
    half = 1.96 * (0.75**2 * 0.09 / 20 + 0.25**2 * 0.1875 / 40) ** 0.5
    assert found.high - found.low == pytest.approx(2 * half, rel=0.15) and found.low < found.value < found.high
    assert weighted_ratio([(5, [1, 0], [1, 1])]) == pass_ratio([1, 0], [1, 1])
    every = weighted_ratio([(1, [1] * 9, [1] * 9), (1, [1] * 9, [1] * 9)])
    assert every.high == 1.0 and pass_ratio([1] * 9, [1] * 9).low < every.low < 1


def test_a_weighted_ratio_holds_as_often_as_it_says():
    rng = np.random.default_rng(5)
    inside = 0
    for _ in range(600):
        a, b = rng.random(30) < 0.8, rng.random(20) < 0.4
        found = weighted_ratio([(1, list(a.astype(int)), [1] * 30), (2, list(b.astype(int)), [1] * 20)])
        inside += found.low <= 0.8 / 3 + 0.8 / 3 <= found.high
    assert 0.92 <= inside / 600 <= 0.99


def test_suites_that_ask_the_same_tasks_are_counted_as_alike():
    """Two seeds of one suite: without their likeness the interval is too narrow, with it it holds."""
    rng, inside = np.random.default_rng(6), {"alike": 0, "apart": 0}
    for _ in range(500):
        hard = rng.beta(0.5, 0.5, 40)  # chance of each task, the same on both seeds: correlation 0.5
        a, b = (list((rng.random(40) < hard).astype(int)) for _ in range(2))
        rho = max(0.0, float(np.corrcoef(a, b)[0, 1]))
        shares = [(1, a, [1] * 40), (1, b, [1] * 40)]
        for name, found in (
            ("alike", weighted_ratio(shares, likeness=np.array([[1, rho], [rho, 1]]))),
            ("apart", weighted_ratio(shares)),
        ):
            inside[name] += found.low <= 0.5 <= found.high
    assert inside["alike"] / 500 >= 0.92 > inside["apart"] / 500


def test_the_correlation_within_groups_by_hand_and_by_simulation():
    found = intraclass_correlation([[1, 2], [3, 5], [5, 6]])
    between, within = (1.5**2 + 4**2 + 5.5**2) * 2 - 2 * 3 * (11 / 3) ** 2, 0.5 + 2 + 0.5
    ratio = (between / 2) / (within / 3)
    assert found.value == pytest.approx((ratio - 1) / (ratio + 1)) and found.low < found.value < found.high
    assert intraclass_correlation([[1, 1], [0, 0]]).value == 1.0
    assert intraclass_correlation([[1, 1], [1, 1]]) is None and intraclass_correlation([[1, 0], [1]]) is None
    rng, held = np.random.default_rng(8), 0
    for _ in range(300):
        middle = rng.normal(0, 1, 25)  # as much between groups as within: 0.5
        found = intraclass_correlation([list(m + rng.normal(0, 1, 3)) for m in middle])
        held += found.low <= 0.5 <= found.high
    assert 0.91 <= held / 300 <= 0.99


def test_a_gap_between_seeds_is_tested_exactly():
    found = seed_gap([1, 1, 1, 1, 1], [0, 0, 0, 0, 0])
    assert (found.difference, found.exercises) == (1.0, 5) and found.p == pytest.approx(1 / 32)
    assert seed_gap([1, 0], [1, 0]).p == 1.0
    assert seed_gap([0, 0, 1], [1, 1, 0]).p > 0.5
    with pytest.raises(ValueError, match="same exercises"):
        seed_gap([1], [])
