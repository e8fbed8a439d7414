"""The outcome's precedence, row by row."""

import pytest

from kettlefield.core.outcome import FAULTS, Facts, Outcome, RunEnd, decide_outcome


def ran(*ends, passed=False, **more):
    return Facts(has_answer=True, run_ends=ends, required_passed=(passed,) * len(ends), **more)


@pytest.mark.parametrize(
    ("facts", "outcome"),
    [
        (ran(RunEnd.FINISHED, passed=True), Outcome.PASSED),
        (ran(RunEnd.FINISHED, passed=True, cap_hit=True), Outcome.PASSED),  # the cap came after a whole program
        (ran(RunEnd.FINISHED, passed=True, server_fault=True), Outcome.SERVER_FAULT),
        (ran(RunEnd.FINISHED), Outcome.WRONG_ANSWER),
        (ran(RunEnd.FINISHED, cap_hit=True), Outcome.WRONG_ANSWER),  # it hit the cap, but that did not matter
        (ran(RunEnd.FINISHED, cap_hit=True, answer_cut=True), Outcome.CUT_OFF),
        (ran(RunEnd.NO_BUILD, cap_hit=True), Outcome.CUT_OFF),
        (ran(RunEnd.NO_BUILD), Outcome.NO_BUILD),
        (ran(RunEnd.CRASHED, RunEnd.NO_BUILD), Outcome.NO_BUILD),
        (ran(RunEnd.CRASHED, RunEnd.MISSING_MODULE), Outcome.MISSING_MODULE),
        (ran(RunEnd.CRASHED, RunEnd.OVER_LIMIT, RunEnd.TIMED_OUT), Outcome.OVER_LIMIT),
        (ran(RunEnd.CRASHED, RunEnd.TIMED_OUT), Outcome.TIMED_OUT),
        (ran(RunEnd.CRASHED, RunEnd.FINISHED), Outcome.CRASHED),
        (ran(RunEnd.RIG_FAULT, RunEnd.NO_BUILD, cap_hit=True, answer_cut=True), Outcome.RIG_FAULT),
        (ran(RunEnd.NO_BUILD, cap_hit=True, looping=True), Outcome.LOOPING),
        (ran(RunEnd.FINISHED, passed=True, cap_hit=True, looping=True), Outcome.PASSED),
        (
            ran(RunEnd.FINISHED, cap_hit=True, looping=True),
            Outcome.WRONG_ANSWER,
        ),  # a whole program came before the loop
        (ran(RunEnd.NO_BUILD, other_language=True), Outcome.WRONG_LANGUAGE),
        (ran(RunEnd.NO_BUILD, other_language=True, cap_hit=True), Outcome.CUT_OFF),
        (ran(RunEnd.RIG_FAULT, looping=True, cap_hit=True), Outcome.RIG_FAULT),
        (Facts(declined=True), Outcome.DECLINED),
        (Facts(declined=True, cap_hit=True), Outcome.CUT_OFF),
        (Facts(cap_hit=True, looping=True), Outcome.LOOPING),
        (Facts(), Outcome.NO_CODE),
        (Facts(cap_hit=True), Outcome.CUT_OFF),
        (Facts(has_answer=True), Outcome.WRONG_ANSWER),  # nothing was checked, so nothing passed
    ],
)
def test_outcome(facts, outcome):
    assert decide_outcome(facts) is outcome


def test_only_faults_of_server_and_rig_are_not_the_models():
    assert {Outcome.SERVER_FAULT, Outcome.RIG_FAULT} == FAULTS
