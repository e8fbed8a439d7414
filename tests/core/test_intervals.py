"""Intervals on known values, by hand, by enumeration or from published examples."""

import math

import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from kettlefield.core.intervals import pass_ratio, quantile_interval, samples_for_bound, wilson_interval


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
    # five exercises, four samples each, all four alike: there is no more in it than five trials tell
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
