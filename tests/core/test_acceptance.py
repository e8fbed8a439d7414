"""Criteria are three-valued: the bound must clear the threshold, not the value."""

import pytest

from kettlefield.core.acceptance import Status, Threshold, Verdict, judge, reach_verdict
from kettlefield.core.statistics.estimate import Estimate

MET, NOT_MET, UNDECIDED = Status.MET, Status.NOT_MET, Status.UNDECIDED


def estimate(low, high):
    return Estimate(value=0.5, low=low, high=high, n=9)


@pytest.mark.parametrize(
    ("threshold", "found", "status"),
    [
        (Threshold(at_least=0.4), estimate(0.4, 0.6), MET),
        (Threshold(at_least=0.4), estimate(0.39, 0.6), UNDECIDED),
        (Threshold(at_least=0.4), estimate(0.1, 0.39), NOT_MET),
        (Threshold(at_least=0.4), estimate(0.1, 0.4), UNDECIDED),
        (Threshold(at_least=0.4), estimate(None, 0.6), UNDECIDED),
        (Threshold(at_least=0.4), estimate(None, 0.3), NOT_MET),
        (Threshold(at_most=0.4), estimate(0.1, 0.4), MET),
        (Threshold(at_most=0.4), estimate(0.1, None), UNDECIDED),
        (Threshold(at_most=0.4), estimate(0.41, None), NOT_MET),
        (Threshold(at_most=10), 10, MET),
        (Threshold(at_most=10), 11, NOT_MET),
        (Threshold(at_least=10), 9, NOT_MET),
        (Threshold(at_least=10), None, UNDECIDED),
    ],
)
def test_judgement(threshold, found, status):
    assert judge(threshold, found) is status


@pytest.mark.parametrize(
    ("statuses", "verdict"),
    [
        ([MET, MET], Verdict.APPROVED),
        ([MET, UNDECIDED], Verdict.UNDECIDED),
        ([UNDECIDED, NOT_MET], Verdict.REJECTED),
        ([], Verdict.UNDECIDED),  # nothing was asked, so nothing is approved
    ],
)
def test_verdict(statuses, verdict):
    assert reach_verdict(statuses) is verdict


def test_a_threshold_has_one_side():
    for sides in ({}, {"at_least": 1, "at_most": 2}):
        with pytest.raises(ValueError, match="exactly one"):
            Threshold(**sides)
