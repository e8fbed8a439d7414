"""Grading: the right outcome for each kind of answer, and no way round the checks."""

import os
import shutil
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import msgspec
import pytest
from exercises import Stalling, grader

from kettlefield.core.errors import RigError
from kettlefield.core.outcome import Outcome, RunEnd
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.grading.grader import Grader
from kettlefield.grading.results import stopped
from kettlefield.grading.vetting import vet_exercise, warm_up
from kettlefield.languages.language import Missing
from kettlefield.sandbox.job import RunReport
from kettlefield.sandbox.runner import Sandbox, available_isolation
from kettlefield.suite.loader import find_suite, load_exercise, load_suite

SUITE = {e.id: e for e in load_suite(CHECKS, find_suite("berthdesk", Path())).exercises}


def grade(exercise_id, code):
    exercise = SUITE[exercise_id]
    return grader().grade_files(exercise, {exercise.spec.file: code})


ANSWERS = {
    # exercise, code, outcome, words in the detail of the failed check
    "returns another value": ("fare-quote", "def fare_quote(*a):\n    return 5\n", "wrong-answer", "gave 5, expected"),
    "raises": ("fare-quote", "def fare_quote(*a):\n    return {}['x']\n", "crashed", "KeyError: 'x' (line 2)"),
    "does not parse": ("fare-quote", "def fare_quote(*a:\n", "no-build", "SyntaxError"),
    "lacks the function": ("fare-quote", "def fare(*a):\n    pass\n", "no-build", "no function fare_quote"),
    "is empty": ("fare-quote", "", "no-build", "no function fare_quote"),
    "needs a package": ("fare-quote", "import polars\n", "missing-module", "polars"),
    "needs a package late": ("fare-quote", "def fare_quote(*a):\n    import polars\n", "missing-module", "polars"),
    "never ends": ("lost-property", "while (true) {}", "timed-out", "still running"),
    "exits early": ("fare-quote", "import os\ndef fare_quote(*a):\n    os._exit(0)\n", "crashed", "ended in mid-run"),
    "raises SystemExit": ("fare-quote", "raise SystemExit(0)\n", "crashed", "SystemExit"),
    "eats memory": (
        "fare-quote",
        "def fare_quote(*a):\n    return len(bytearray(2**33))\n",
        "over-limit",
        "MemoryError",
    ),
    "recurses for ever": (
        "fare-quote",
        "def fare_quote(*a):\n    return fare_quote(*a)\n",
        "crashed",
        "RecursionError",
    ),
    "returns itself": (
        "fare-quote",
        "def fare_quote(*a):\n    x = []\n    x.append(x)\n    return x\n",
        "wrong-answer",
        "deeply",
    ),
    "overrides equality": (
        "fare-quote",
        "class Any(int):\n    def __eq__(self, other): return True\n    __hash__ = int.__hash__\n"
        "def fare_quote(*a):\n    return Any(1)\n",
        "wrong-answer",
        "gave 1, expected",
    ),
    "forges results on every descriptor": (
        "fare-quote",
        'import os\nfor fd in range(3, 20):\n    try: os.write(fd, b\'x {"case": 0, "value": 1240}\\n\')\n'
        "    except OSError: pass\ndef fare_quote(*a):\n    return 0\n",
        "wrong-answer",
        "gave 0, expected",
    ),
    "replaces the encoder": (
        "fare-quote",
        "import json\njson.dumps = lambda *a, **k: 'null'\ndef fare_quote(*a):\n    return 1\n",
        "crashed",
        "ended in mid-run",
    ),
    "prints to its output": (
        "fare-quote",
        "print('passed')\ndef fare_quote(*a):\n    print('ok')\n    return 0\n",
        "wrong-answer",
        "gave 0",
    ),
    "walks frames for the cases": (
        "fare-quote",
        "import sys\ndef fare_quote(*a):\n    f = sys._getframe()\n    while f:\n"
        "        job = f.f_locals.get('job')\n        if job: return sorted(job)\n        f = f.f_back\n",
        "wrong-answer",
        '["cases", "file", "function", "nonce", "object"], expected',
    ),
    "javascript returns undefined": ("drift-set", "function driftCode(r) {}", "wrong-answer", "undefined"),
    "javascript throws": (
        "drift-set",
        "function driftCode(r) { throw new Error('tide'); }",
        "crashed",
        "Error: tide (line 1)",
    ),
    "javascript does not parse": ("drift-set", "function driftCode(r) {", "no-build", "SyntaxError"),
    "javascript needs a package": ("drift-set", "const x = require('left-tide');", "missing-module", "left-tide"),
    "javascript module does not parse": ("drift-set", "export function driftCode( {", "no-build", "SyntaxError"),
    "javascript module throws a syntax error": (
        "drift-set",
        "export function driftCode(r) { return JSON.parse('{'); }",
        "crashed",
        "SyntaxError",
    ),
    "javascript rejects a promise": ("drift-set", "async function driftCode(r) { throw 3; }", "crashed", "number: 3"),
    "program does not parse": ("radio-log-digest", "print(", "no-build", "SyntaxError"),
    "program crashes": ("radio-log-digest", "print(1)\nint('x')", "crashed", "ValueError"),
    "program needs a package": ("radio-log-digest", "import polars", "missing-module", "polars"),
    "program prints else": ("radio-log-digest", "print('ignored 99')", "wrong-answer", "expected"),
    "program forgets the exit status": ("weighbridge-tally", "console.log('all 0 0.000')", "wrong-answer", "case 1"),
    "javascript program does not parse": ("weighbridge-tally", "console.log(", "no-build", "SyntaxError"),
}


@pytest.mark.parametrize("name", ANSWERS)
def test_an_answer_that(name):
    exercise, code, outcome, words = ANSWERS[name]
    found = grade(exercise, code)
    details = " ".join(check.detail for check in found.checks)
    assert (str(found.outcome), found.score) == (outcome, 0.0), details
    assert words in details


OFFERS = (
    "export default function driftCode(readings) { %s }",
    "module.exports = { driftCode: (readings) => { %s } }",
    "exports.driftCode = function (readings) { %s }",
    "const driftCode = async (readings) => { %s };",
    "#!/usr/bin/env node\nfunction driftCode(readings) { %s }",
)


@pytest.mark.parametrize("code", OFFERS)
def test_javascript_may_offer_its_function_in_any_usual_way(code):
    answer = SUITE["drift-set"].answer["answer.js"]
    body = answer[answer.index("{") + 1 : answer.rindex("}")]
    assert grade("drift-set", code.replace("%s", body)).outcome is Outcome.PASSED


def test_a_check_in_any_order_takes_any_order_of_the_right_items():
    exercise = SUITE["berth-clashes"]
    answer = exercise.answer["answer.py"].replace("in clashes]", "in clashes[::-1]]")
    assert grade("berth-clashes", answer).outcome is Outcome.WRONG_ANSWER
    check = msgspec.structs.replace(exercise.spec.check[0], compare="any-order")
    loose = msgspec.structs.replace(exercise, turns=(msgspec.structs.replace(exercise.turns[0], checks=(check,)),))
    for code, outcome in ((answer, Outcome.PASSED), (answer.replace("[::-1]", "[1:]"), Outcome.WRONG_ANSWER)):
        assert grader().grade_files(loose, {"answer.py": code}).outcome is outcome


def test_expected_values_never_enter_the_sandbox(monkeypatch):
    """Nothing that goes into a run holds a secret that only the expected values hold."""
    seen = []
    real = Sandbox.run
    monkeypatch.setattr(Sandbox, "run", lambda self, job: seen.append(job) or real(self, job))
    grade("fare-quote", SUITE["fare-quote"].answer["answer.py"])
    case = next(c for c in SUITE["fare-quote"].cases["worked cases"] if c.expect == 32515)
    assert case.args and seen
    assert not any("32515" in f"{job.stdin} {job.argv} {job.files} {job.env}" for job in seen)


def test_a_reply_is_graded_from_its_text_alone():
    exercise = SUITE["fare-quote"]
    code = exercise.answer["answer.py"]
    passed = grader().grade_reply(exercise, f"Sure:\n```python\n{code}```", cap_hit=False)
    assert (passed.outcome, passed.score, passed.answer.how) == (Outcome.PASSED, 1.0, "the only block")
    cut = grader().grade_reply(exercise, f"```python\n{code[: len(code) // 2]}", cap_hit=True)
    assert cut.outcome is Outcome.CUT_OFF
    talk = grader().grade_reply(exercise, "A fare is a price.", cap_hit=False)
    assert (talk.outcome, talk.checks) == (Outcome.NO_CODE, ())
    declined = grader().grade_reply(exercise, "I'm sorry, I cannot help with that.", cap_hit=False)
    assert declined.outcome is Outcome.DECLINED
    loop = grader().grade_reply(exercise, "```python\ndef fare_quote(\n" + "    a,\n" * 200, cap_hit=True)
    assert loop.outcome is Outcome.LOOPING


OTHER = {
    "javascript for python": ("fare-quote", SUITE["drift-set"].answer["answer.js"], "wrong-language"),
    "a javascript module for python": (
        "fare-quote",
        "export const fareQuote = () => { return 5; };\n",
        "wrong-language",
    ),
    "python for javascript": ("drift-set", SUITE["fare-quote"].answer["answer.py"], "wrong-language"),
    "python for a javascript program": (
        "weighbridge-tally",
        "import sys\nfor line in sys.stdin:\n    print(line)\n",
        "wrong-language",
    ),
    "go for rust": ("tide-steps", SUITE["deck-diagram"].answer["answer.go"], "wrong-language"),
    "java for javascript": ("drift-set", SUITE["crew-shifts"].answer["Main.java"], "wrong-language"),
    "broken go for rust": ("tide-steps", "package main\nfunc main() {\n", "no-build"),
    "broken python": ("fare-quote", "def fare_quote(a, b:\n    return {a; b}\n", "no-build"),
    "prose": ("drift-set", "The drift is folded in steps.\n", "no-build"),
}


@pytest.mark.parametrize("name", OTHER)
def test_another_language_is_told_by_what_parses(name):
    exercise, code, outcome = OTHER[name]
    assert str(grade(exercise, code).outcome) == outcome


def test_a_block_in_another_language_is_never_run_as_that_language():
    python = "def driftCode(readings):\n    return 0\n"
    for exercise_id, outcome in (("drift-set", "wrong-language"), ("signal-lamp", "wrong-language")):
        found = grader().grade_reply(SUITE[exercise_id], f"```python\n{python}```", cap_hit=False)
        assert (str(found.outcome), found.answer.language) == (outcome, "javascript"), found
        assert found.answer.text == python


def test_a_missing_toolchain_is_a_fault_of_the_rig(monkeypatch):
    monkeypatch.setattr(
        "kettlefield.grading.grader.find_toolchain", lambda name: Missing(language=name, remedy="apt-get install it")
    )
    found = grade("fare-quote", "x = 1")
    assert found.outcome is Outcome.RIG_FAULT
    assert "apt-get install it" in found.fault


def test_a_failure_before_a_fault_of_the_rig_decides():
    class FailsLater(Sandbox):
        runs = 0

        def run(self, job):
            self.runs += 1
            report = super().run(job)
            return report if self.runs <= 2 else msgspec.structs.replace(report, rig_fault="bwrap: no room")

    exercise = SUITE["beacon-gaps"]
    right, wrong = exercise.answer, exercise.decoys["single-as-span"]
    outcomes = []
    for files in (wrong, right):
        here = Grader(available_isolation())
        here.sandbox = FailsLater(available_isolation())
        outcomes.append(here.grade_files(exercise, files).outcome)
    assert outcomes == [Outcome.WRONG_ANSWER, Outcome.RIG_FAULT]


@pytest.mark.parametrize(
    ("file", "before", "after", "words"),
    [
        ("cases.json", '"expect": 560', '"expect": 565', "its own answer ends wrong-answer"),
        ("decoys/half-even.diff", "round(numerator / denominator / 5)", "(2 * numerator + 5 * denominator) // (10 * denominator)",
         'decoy "half-even" ends passed, declared wrong-answer'),
        ("prompt.md", "fare_quote", "the_fare", 'never names the function "fare_quote"'),
        ("cases.json", ', "by_hand": true', "", "0 cases worked by hand"),
        ("exercise.toml", 'outcome = "wrong-answer"', 'outcome = "passed"', "declared to pass"),
    ],
)  # fmt: skip
def test_vetting_finds(tmp_path, file, before, after, words):
    folder = tmp_path / "fare-quote"
    shutil.copytree(SUITE["fare-quote"].folder, folder)
    text = (folder / file).read_text()
    assert before in text
    (folder / file).write_text(text.replace(before, after))
    faults = vet_exercise(load_exercise(CHECKS, folder), grader()).faults
    assert any(words in fault for fault in faults), faults


def test_a_rig_that_cannot_run_the_suites_own_answers_is_told_before_the_campaign(monkeypatch):
    suite = load_suite(CHECKS, find_suite("berthdesk", Path()), selection="short")
    warm_up(suite.exercises, grader(), workers=2)
    monkeypatch.setattr(
        "kettlefield.grading.grader.find_toolchain", lambda name: Missing(language=name, remedy="apt-get install it")
    )
    with pytest.raises(RigError, match="ends rig-fault here .*apt-get install it"):
        warm_up(suite.exercises, grader(), workers=2)


def test_a_rig_that_is_busy_as_it_is_tried_is_tried_again():
    busy = Grader(available_isolation())
    busy.sandbox = Stalling(2)
    warm_up([SUITE["fare-quote"]], busy, workers=1)
    busy.sandbox = Stalling(99)
    with pytest.raises(RigError, match="python ends timed-out here .*still running after"):
        warm_up([SUITE["fare-quote"]], busy, workers=1)


def test_a_message_says_how_long_a_run_had_no_processor():
    late = RunReport(exit_status=None, stdout=b"", stderr=b"", results=b"", wall_s=14.04, waited_s=4.0, timed_out=True)
    assert stopped(late) == (RunEnd.TIMED_OUT, "still running after 14.0 s, 4.0 s of them without a processor")
    quiet = msgspec.structs.replace(late, waited_s=0.3)
    assert stopped(quiet) == (RunEnd.TIMED_OUT, "still running after 14.0 s")


def test_the_same_answer_is_run_once_and_one_that_a_busy_rig_may_have_failed_again(monkeypatch):
    exercise, runs = SUITE["lost-property"], []
    run = Sandbox.run
    monkeypatch.setattr(Sandbox, "run", lambda self, job: runs.append(job) or run(self, job))
    fresh = Grader(available_isolation())

    def graded(code, of=exercise):
        before = len(runs)
        found = fresh.grade_reply(of, f"Here it is.\n```javascript\n{code}\n```", cap_hit=False)
        return found.outcome, [check.cases_passed for check in found.checks], len(runs) - before

    for code, outcome in ((exercise.answer[exercise.spec.file], Outcome.PASSED), ("nothing(", Outcome.NO_BUILD)):
        first, again = graded(code), graded(code)
        assert first[0] is again[0] is outcome
        assert first[1] == again[1]
        assert first[2] > 0
        assert again[2] == 0
    assert graded("while (true) {}")[0] is Outcome.TIMED_OUT
    assert graded("while (true) {}")[2] > 0
    # another variant of the exercise asks for something else
    assert graded(exercise.answer[exercise.spec.file], msgspec.structs.replace(exercise))[2] > 0


def test_one_a_processor_is_graded_at_once_and_waiting_for_the_same_answer_keeps_none_idle(monkeypatch):
    monkeypatch.setattr(os, "cpu_count", lambda: 2)
    fresh, exercise = Grader(available_isolation()), SUITE["lost-property"]
    run_checks, active, most, other_ran = fresh._run_checks, [], [], threading.Event()

    def watched(of, checks, answer):
        active.append(answer)
        most.append(len(active))
        text = answer.files[answer.main]
        if "same" in text:
            assert other_ran.wait(60)  # comes only if whoever waits for this one takes no turn
        other_ran.set()
        time.sleep(0.05)
        active.remove(answer)
        return run_checks(of, checks, answer)

    monkeypatch.setattr(fresh, "_run_checks", watched)
    replies = [f"```javascript\n{word}(\n```" for word in ("same", "same", "same", "other", "more", "last")]
    with ThreadPoolExecutor(fresh.at_once) as threads:
        work = [threads.submit(fresh.grade_reply, exercise, reply, cap_hit=False) for reply in replies]
        # what a workspace runs takes its turn too
        work += [threads.submit(fresh.in_turn, lambda: most.append(len(active) + 1)) for _ in range(4)]
        ended = [one.result() for one in work]
    assert [one.outcome for one in ended[:6]] == [Outcome.NO_BUILD] * 6 and max(most) == 2
    assert len(most) == 4 + 4  # of the same answer one was graded
