"""Exponents and ratios on known values, and reports of check programs."""

import numpy as np
import pytest

from kettlefield.core.statistics.trends import Ruling, fit_exponent, ratio_of_pairs
from kettlefield.core.values import matches_whole, occurs, pattern_fault
from kettlefield.grading.checks.check_program import parse_tap


@pytest.mark.parametrize("power", [0.0, 1.0, 1.5, 2.0])
def test_the_exponent_of_a_power_law_is_found(power):
    sizes = [100, 200, 400, 800] * 2
    slope = fit_exponent(sizes, [0.01 * (size / 100) ** power for size in sizes])
    assert (slope.value, slope.low, slope.high) == pytest.approx((power,) * 3, abs=1e-6)
    assert slope.rule(power + 0.1) is Ruling.WITHIN
    assert slope.rule(power - 0.1) is Ruling.BEYOND


def test_a_noisy_exponent_has_the_interval_that_least_squares_gives():
    # by scipy.stats.linregress 1.17 on the logarithms, slope and its standard error times t(0.95, 2) = 2.919986
    slope = fit_exponent([1, 10, 100, 1000], [1.0, 12.0, 90.0, 1100.0])
    assert slope.value == pytest.approx(0.999919, abs=2e-3)
    assert slope.high - slope.value == pytest.approx(slope.value - slope.low)
    assert slope.rule(slope.value) is Ruling.UNDECIDED


def test_costs_that_cannot_be_told_from_a_start_do_not_spoil_the_fit():
    assert fit_exponent([1, 2, 4, 8], [-0.001, 0.0, 0.0005, 0.001]).value == pytest.approx(0.0)


@pytest.mark.parametrize("sizes", [[1, 2], [5, 5, 5], [0, 1, 2]])
def test_an_exponent_needs_three_points_of_two_sizes(sizes):
    with pytest.raises(ValueError, match="3 points"):
        fit_exponent(sizes, [1.0] * len(sizes))


def test_a_ratio_of_pairs_cancels_what_both_suffer():
    noise = np.random.default_rng(4).uniform(1, 3, 6)
    ratio = ratio_of_pairs(0.06 * noise, 0.02 * noise)
    assert (ratio.value, ratio.low, ratio.high) == pytest.approx((3, 3, 3))
    with pytest.raises(ValueError, match="at least 2"):
        ratio_of_pairs([1.0], [1.0])


GOOD = "TAP version 14\n1..3\nok 1 - tide\nnot ok 2 - berth # TODO later\nok 3 # SKIP no quay\n"


@pytest.mark.parametrize(
    ("text", "passed", "fault"),
    [
        (GOOD, [True, True, True], None),
        (GOOD.replace(" # TODO later", ""), [True, False, True], None),
        ("TAP version 14\nok\nnot ok\n1..2\n", [True, False], None),
        ("TAP version 14\n1..1\n    ok 1 - inner\n    1..1\nok 1 - outer\n", [True], None),
        ("TAP version 14\n1..0 # SKIP nothing\n", [], None),
        ("TAP version 13\r\n1..1\r\nok 1\r\n", [True], None),
        ("1..1\nok 1\n", None, "first line"),
        ("TAP version 14\nok 1\n", None, "no plan"),
        ("TAP version 14\n1..2\nok 1\n", None, "2 points planned, 1 found"),
        ("TAP version 14\n1..2\nok 1\nok 1\n", None, "2 points planned"),
        ("TAP version 14\n1..1\n1..1\nok 1\n", None, "two plans"),
        ("TAP version 14\n1..1\nBail out! no water\n", None, "bailed out: no water"),
    ],
)
def test_a_report_counts_only_when_it_is_whole(text, passed, fault):
    report = parse_tap(text)
    if fault is None:
        assert (report.fault, [point.passed for point in report.points]) == (None, passed)
    else:
        assert fault in report.fault


def test_a_points_message_is_kept():
    report = parse_tap("TAP version 14\n1..1\nnot ok 1 - a \\# b\n  ---\n  message: 'wanted 3'\n  ...\n")
    assert [(point.words, point.message) for point in report.points] == [("a # b", "wanted 3")]


def test_an_exploding_pattern_is_no_match_and_a_faulty_one_is_told():
    assert matches_whole("(a+)+b", "a" * 60 + "c") is False
    assert matches_whole("tide \\d+", "tide 4\n")
    assert occurs("Low Water", "at low water")
    assert pattern_fault("(") is not None
    assert pattern_fault("a|b") is None
