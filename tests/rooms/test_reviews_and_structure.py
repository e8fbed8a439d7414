"""Checks of a review's findings and of a program's structure: right, wrong and hostile answers."""

import json

import pytest
from exercises import grader, write_exercise

from kettlefield.core.errors import InputError
from kettlefield.core.outcome import Outcome
from kettlefield.grading.checks.review_findings import read_findings
from kettlefield.grading.fairness import paper_faults
from kettlefield.suite.skeleton import add_exercise, new_suite

KINDS = ("boundary", "race")
FAULTS = [
    {"file": "a.py", "lines": [3, 5], "kinds": ["boundary"]},
    {"file": "b.py", "lines": [9, 9], "kinds": ["race", "boundary"]},
]


def one(file, line, kind):
    return {"file": file, "line": line, "kind": kind}


FIRST, SECOND = one("a.py", 4, "boundary"), one("b.py", 9, "race")


def review(folder, **check):
    fields = {"kind": "findings", "name": "f", "kinds": list(KINDS), **check}
    spec = {"kind": "review", "language": "text", "file": "reply.md", "check": [fields]}
    return write_exercise(
        folder, spec, {"prompt.md": "See a.py and b.py: `boundary` or `race`.\n", "answer/reply.md": "[]\n"}
    )


@pytest.mark.parametrize(
    ("findings", "passed", "cases", "said"),
    [
        ([FIRST, SECOND], True, 2, ""),
        ([SECOND, FIRST, one("a.py", 5, "boundary"), one("b.py", 9, "boundary")], True, 2, ""),
        ([FIRST], False, 1, "misses race in b.py, line 9"),
        ([FIRST, one("b.py", 8, "race")], False, 0, "false alarm: b.py:8 race"),
        ([FIRST, SECOND, one("a.py", 4, "race")], False, 1, "false alarm: a.py:4 race"),
        ([FIRST, SECOND, one("c.py", 4, "boundary")], False, 1, "false alarm: c.py:4"),
        ([], False, 0, "misses boundary"),
        ([FIRST, SECOND | {"why": "x"}], False, 0, "finding 2 has not just file, line and kind"),
        ([FIRST | {"line": True}], False, 0, "no line as a whole number"),
        ([FIRST | {"kind": "style"}], False, 0, "not offered: style"),
        ([FIRST] * 101, False, 0, "lists 101 findings"),
        ({"file": "a.py"}, False, 0, "holds no JSON list"),
    ],
)
def test_every_fault_is_to_be_named_where_it_stands_and_nothing_else(tmp_path, findings, passed, cases, said):
    exercise = review(tmp_path / "look", fault=FAULTS)
    grade = grader().grade_reply(exercise, f"First [1].\n\n```json\n{json.dumps(findings)}\n```\n", cap_hit=False)
    result = grade.checks[0]
    assert (grade.outcome is Outcome.PASSED, result.passed, result.cases_passed) == (passed, passed, cases)
    assert said in result.detail and grade.score == pytest.approx(cases / 2 if not passed else 1)


def test_a_right_change_wants_an_empty_list_and_an_alarm_may_be_let_pass(tmp_path):
    clean, lenient = review(tmp_path / "clean"), review(tmp_path / "lenient", fault=FAULTS, alarms=1)
    assert grader().grade_files(clean, {"reply.md": "All is well: []\n"}).outcome is Outcome.PASSED
    alarm = grader().grade_files(clean, {"reply.md": json.dumps([FIRST])})
    assert alarm.outcome is Outcome.WRONG_ANSWER and alarm.score == 0
    for extra, passed in ((1, True), (2, False)):
        found = [FIRST, SECOND, *[one("a.py", 70 + n, "race") for n in range(extra)]]
        grade = grader().grade_files(lenient, {"reply.md": json.dumps(found)})
        assert (grade.outcome is Outcome.PASSED) is passed


@pytest.mark.parametrize(
    "text", ["[" * 100_000, "no list", "", "[1, 2]", '[{"file": "\x1b[2J", "line": 1, "kind": "x"}]', "[NaN]"]
)
def test_whatever_a_reply_holds_it_is_read_or_refused_in_words(text):
    found = read_findings(text, KINDS)
    assert isinstance(found, str) and "\x1b" not in found


def test_a_review_that_cannot_be_fair_is_told(tmp_path):
    with pytest.raises(InputError, match="is of no kind that is offered"):
        review(tmp_path / "kind", fault=[FAULTS[0] | {"kinds": ["leak"]}])
    with pytest.raises(InputError, match="are no lines"):
        review(tmp_path / "lines", fault=[FAULTS[0] | {"lines": [5, 3]}])
    unsaid = paper_faults(review(tmp_path / "unsaid", fault=[FAULTS[0] | {"file": "hidden.py"}]))
    assert any('never names the file "hidden.py"' in fault for fault in unsaid)


CODE = '''
import os.path

class Board:
    """A board."""

    def add(self, ship):
        if ship and len(ship) > 1:
            if ship.isupper():
                return os.path.join(ship)
        elif ship:
            return helper(ship)

def helper(ship, *rest, last=None):
    """Help."""
    return ship
'''


@pytest.mark.parametrize(
    ("rules", "said"),
    [
        ({"defines": ["Board", "Board.add", "helper"]}, ""),
        ({"defines": ["Board.drop"]}, "Board.drop is not defined"),
        ({"lacks": ["old"]}, ""),
        ({"lacks": ["helper"]}, "helper is still there"),
        ({"parameters": {"helper": ["ship", "rest", "last"]}}, ""),
        ({"parameters": {"helper": ["ship"]}}, "helper takes (ship, rest, last), not (ship)"),
        ({"calls": [["Board.add", "helper"], ["Board.add", "join"], ["Board.add", "os.path.join"]]}, ""),
        ({"calls": [["helper", "join"]]}, "helper does not call join"),
        ({"no_calls": [["Board.add", "helper"]]}, "Board.add calls helper"),
        ({"no_names": {"helper": ["os"], "*": ["sys"]}}, ""),
        ({"no_names": {"*": ["os.path"]}}, "the file still uses os.path"),
        ({"most_statements": {"Board.add": 5, "*": 5}}, ""),
        ({"most_statements": {"*": 4}}, "Board.add has 5 statements, at most 4 are wanted"),
        ({"most_branches": {"Board.add": 3}}, ""),
        ({"most_branches": {"Board.add": 2}}, "Board.add has 3 branches"),
        ({"most_branches": {"gone": 2}}, "gone is not defined"),
    ],
)  # fmt: skip
def test_the_syntax_tree_must_keep_to_the_rules(tmp_path, rules, said):
    spec = {"check": [{"kind": "structure", "name": "s", "file": "answer.py", **rules}]}
    grade = grader().grade_files(write_exercise(tmp_path / "built", spec, {}), {"answer.py": CODE})
    assert grade.outcome is (Outcome.WRONG_ANSWER if said else Outcome.PASSED)
    assert said in grade.checks[0].detail


@pytest.mark.parametrize(
    "code", ["def f(:", "(" * 5000, "x = " + "a." * 20_000 + "b()\n", "-" * 90_000 + "1", "\x00", "f(" * 90 + ")" * 90]
)
def test_hostile_code_has_no_structure_and_harms_nothing(tmp_path, code):
    spec = {"check": [{"kind": "structure", "name": "s", "file": "answer.py", "defines": ["f"], "calls": [["f", "g"]]}]}
    grade = grader().grade_files(write_exercise(tmp_path / "built", spec, {}), {"answer.py": code})
    assert grade.outcome is not Outcome.PASSED and grade.outcome is not Outcome.RIG_FAULT


def test_rules_that_ask_for_nothing_or_what_is_not_said_are_told_and_skeletons_load(tmp_path):
    with pytest.raises(InputError, match="asks for nothing"):
        write_exercise(tmp_path / "none", {"check": [{"kind": "structure", "name": "s", "file": "answer.py"}]}, {})
    spec = {"check": [{"kind": "structure", "name": "s", "file": "answer.py", "calls": [["run", "step"]]}]}
    unsaid = paper_faults(write_exercise(tmp_path / "unsaid", spec, {"prompt.md": "Write `run`.\n"}))
    assert any('never names "step"' in fault for fault in unsaid) and not any('"run"' in fault for fault in unsaid)
    new_suite(tmp_path / "mine")
    for kind in ("review", "refactor", "refer"):
        assert (add_exercise(tmp_path / "mine", kind, f"a-{kind}", "python") / "exercise.toml").exists()
    assert (tmp_path / "mine" / "texts" / "a-refer.md").exists()
