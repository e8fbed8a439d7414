"""When to stop, what to try next, slopes and drifts: on values made by hand."""

from itertools import combinations, permutations

import numpy as np
import pytest
import scipy
from hypothesis import given
from hypothesis import strategies as st

from kettlefield.core.statistics.trends import crossing, drift, median_ratio, slope, variance_of_s
from kettlefield.core.timing.pacing import Bracket, arrival_times, is_precise, is_settled, saturation, window_rate_tps


def test_warm_up_is_over_when_three_lie_close_together():
    assert not is_settled([0.1, 0.1])
    assert not is_settled([0.9, 0.1, 0.1])
    assert is_settled([0.9, 0.1, 0.11, 0.1])
    assert not is_settled([0.1, 0.1, 0.1, 0.2])


def test_a_median_is_precise_when_its_interval_is_tight():
    assert not is_precise([1.0] * 5, 0.05)  # five values do not bound a median at 95 %
    assert is_precise([1.0] * 6, 0.05)
    assert not is_precise([1.0, 1.0, 1.0, 1.0, 1.0, 2.0], 0.05)
    assert not is_precise([1.0] * 60, 0.0)


def test_arrivals_are_a_poisson_process_that_stretches_with_the_rate():
    moments = arrival_times(5.0, 400.0, 3)
    assert len(moments) == pytest.approx(2000, rel=0.1)
    gaps = np.diff(moments)
    assert np.mean(gaps) == pytest.approx(0.2, rel=0.1) and np.std(gaps) == pytest.approx(0.2, rel=0.1)
    assert arrival_times(10.0, 200.0, 3)[:50] == pytest.approx([moment / 2 for moment in moments[:50]])
    assert arrival_times(0.01, 1.0, 3) == ()


@given(st.floats(0.02, 500), st.floats(0.05, 200))
def test_the_search_brackets_whatever_the_true_capacity_is(capacity, first):
    bracket = Bracket()
    for _ in range(60):
        rate = bracket.next_rate(first)
        if rate is None:
            break
        bracket = bracket.after(rate, held=rate <= capacity)
    assert bracket.holds <= capacity <= bracket.fails <= 1.1 * bracket.holds


def test_throughput_of_streams_and_its_knee():
    replies = [(0.0, [0.5, 1.0], 10), (0.2, [1.5, 2.0], 20)]
    assert window_rate_tps(replies) == pytest.approx(30 / 2.0)
    assert window_rate_tps([(0.0, [0.5], 1)]) is None
    assert saturation([1, 2, 4, 8], [100, 190, 350, 360]) == 4
    assert saturation([1, 2, 4], [100, 190, 350]) is None
    assert saturation([1, 4], [100, 120]) == 1  # two doublings want twice a tenth


def test_slopes_and_crossings():
    found = slope([1, 2, 3, 4, 5], [10, 12, 14, 16, 99])
    assert found.value == pytest.approx(2.0) and found.low <= 2 <= found.high and found.n == 5
    assert slope([1, 1, 1], [1, 2, 3]) is None and slope([1, 2], [1, 2]) is None
    assert crossing([0, 1000, 2000], [50, 40, 20], 30) == pytest.approx(1500)
    assert crossing([0, 1000], [50, 40], 30) is None and crossing([5, 1000], [20, 10], 30) == 5


@pytest.mark.parametrize(
    ("x", "y"),
    [([1, 2, 3, 4, 5], [3, 1, 4, 1.5, 9]), ([1, 1, 2, 2, 3], [0, 0, 1, 1, 5]), ([1, 1, 2, 2, 3], [7] * 5)],
)
def test_a_slope_among_equal_values_has_the_interval_that_chance_gives(x, y):
    def s(values):
        return sum(np.sign(x[j] - x[i]) * np.sign(values[j] - values[i]) for i, j in combinations(range(5), 2))

    every = [s(values) for values in permutations(y)]
    assert variance_of_s(np.array(x, dtype=float), np.array(y, dtype=float)) == pytest.approx(np.var(every))
    found = slope(x, y)
    assert found.low <= found.value <= found.high and (len(set(y)) > 1 or found.low == found.high == 0)
    plain = scipy.stats.theilslopes(y, np.arange(5.0), 0.95)
    if len(set(y)) == 5:
        assert (found.value, found.low, found.high) == (plain.slope, plain.low_slope, plain.high_slope)


def test_drift_is_told_only_beyond_chance_and_of_some_size():
    rng = np.random.default_rng(1)
    steady = list(rng.normal(100, 2, 60))
    assert drift(steady) is None
    assert drift(list(np.asarray(steady) * np.linspace(1, 0.7, 60))) == pytest.approx(0.78, abs=0.05)
    assert drift([100.0] * 20 + [101.0] * 40) is None  # certain, and of no account
    assert drift([1.0, 2.0, 3.0]) is None


def test_a_ratio_of_medians_compares_shared_points():
    fast, slow = [1.0, 1.1, 0.9, 1.0, 1.0], [10.0, 11.0, 9.0, 10.0, 10.0]
    found = median_ratio([(fast, [2 * v for v in fast]), (slow, [2 * v for v in slow])])
    assert found.value == pytest.approx(0.5) and 0.44 < found.low < 0.5 < found.high < 0.56 and found.n == 10
    assert median_ratio([([1.0] * 3, [1.0] * 9)]) is None and median_ratio([]) is None
