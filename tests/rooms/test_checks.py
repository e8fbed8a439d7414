"""Each kind of check on answers that meet it and answers that do not."""

import pytest
from exercises import grader, write_exercise

from kettlefield.core.errors import InputError
from kettlefield.core.outcome import Outcome
from kettlefield.languages.packages import find_packages


def grade(exercise, code, *, turn=1):
    files = code if isinstance(code, dict) else {exercise.spec.file: code}
    found = grader().grade_files(exercise, files, turn=turn)
    return str(found.outcome), " ".join(check.detail for check in found.checks), found


# --- calls on one object, expected errors, ways of comparing ----------------------------------------------

LEDGER = """class Ledger:
    def __init__(self, room):
        self.room, self.held = room, []
    def book(self, ship, metres):
        if metres > self.room:
            raise ValueError("no room")
        self.room -= metres
        self.held.append(ship)
        return self.room
    def ships(self):
        return self.held
"""
LEDGER_JS = """class Ledger {
  constructor(room) { this.room = room; this.held = []; }
  book(ship, metres) {
    if (metres > this.room) throw new RangeError("no room");
    this.room -= metres; this.held.push(ship); return this.room;
  }
  ships() { return this.held; }
}
module.exports = { Ledger };
"""


@pytest.mark.parametrize(
    ("language", "file", "code", "error"),
    [("python", "answer.py", LEDGER, "ValueError"), ("javascript", "answer.js", LEDGER_JS, "RangeError")],
)
def test_the_methods_of_one_object_are_called_in_turn(tmp_path, language, file, code, error):
    steps = [
        {"call": "book", "args": ["Teal", 30], "expect": 70},
        {"call": "book", "args": ["Dunlin", 80], "raises": error},
        {"call": "ships", "expect": ["Teal"]},
    ]
    check = {"kind": "calls", "name": "ledger", "object": "Ledger", "cases": "cases.json"}
    exercise = write_exercise(
        tmp_path / "e",
        {"language": language, "file": file, "check": [check]},
        {"cases.json": [{"args": [100], "steps": steps}]},
    )
    assert grade(exercise, code)[0] == "passed"
    outcome, detail, _ = grade(
        exercise, code.replace("self.held.append(ship)", "pass").replace("this.held.push(ship);", "")
    )
    assert (outcome, 'then ships() gave [], expected ["Teal"]' in detail) == ("wrong-answer", True), detail
    outcome, detail, _ = grade(exercise, code.replace(error, "TypeError"))
    assert (outcome, "TypeError: no room" in detail and f"expected {error}" in detail) == ("wrong-answer", True), detail
    assert (
        grade(
            exercise,
            code.replace(
                "metres > ", "metres < 0 && metres > " if language == "javascript" else "metres < 0 and metres > "
            ),
        )[0]
        == "wrong-answer"
    )
    assert grade(exercise, code.replace("ships", "vessels"))[0] == "crashed"


def test_an_error_of_a_derived_type_counts_and_another_way_of_ending_does_not(tmp_path):
    check = {"kind": "calls", "name": "c", "function": "f", "cases": "cases.json"}
    exercise = write_exercise(
        tmp_path / "e", {"check": [check]}, {"cases.json": [{"args": [1], "raises": "ValueError"}]}
    )
    assert grade(exercise, "class Late(ValueError): pass\ndef f(x): raise Late('x')\n")[0] == "passed"
    assert grade(exercise, "def f(x): return None\n")[0] == "wrong-answer"
    assert grade(exercise, "import os\ndef f(x): os._exit(0)\n")[0] == "crashed"


@pytest.mark.parametrize(
    ("how", "expect", "good", "bad"),
    [
        ("any-order", ["a", "b"], "['b', 'a']", "['b', 'b']"),
        ("one-of", [[1, 2], [2, 1]], "[2, 1]", "[1, 1]"),
        ("within", [3, 4.5], "4.5", "4.6"),
        ("pattern", "T-\\d{3}", "'T-042'", "'xT-042'"),
        ("pattern", "(a+)+b", "'aaab'", "'a' * 5000"),
    ],
)
def test_values_may_be_compared_by(tmp_path, how, expect, good, bad):
    check = {"kind": "calls", "name": "c", "function": "f", "cases": "cases.json", "compare": how}
    exercise = write_exercise(tmp_path / "e", {"check": [check]}, {"cases.json": [{"expect": expect}]})
    assert grade(exercise, f"def f(): return {good}\n")[0] == "passed"
    assert grade(exercise, f"def f(): return {bad}\n")[0] == "wrong-answer"


# --- programs: files in and out, patterns ----------------------------------------------------------------

TIDY = """import json, sys
rows = [row.split(",") for row in open("in/calls.csv").read().split()]
with open("in/calls.csv", "a") as file:
    file.write("done\\n")
json.dump({"n": len(rows), "ships": [row[0] for row in rows]}, open("out.json", "w"), indent=2)
print("at", 17)
"""


def files_exercise(folder, language="python", file="answer.py"):
    check = {"kind": "program", "name": "p", "cases": "cases.json", "pattern": True}
    case = {
        "files": {"in/calls.csv": "Teal,1\nKnot,2\n"},
        "stdout": "at \\d+",
        "writes": {"out.json": '{"ships": ["Teal", "Knot"], "n": 2}'},
    }
    return write_exercise(folder, {"language": language, "file": file, "check": [check]}, {"cases.json": [case]})


def test_a_program_reads_changes_and_writes_files(tmp_path):
    exercise = files_exercise(tmp_path / "e")
    assert grade(exercise, TIDY)[0] == "passed"
    for broken, words in {
        TIDY.replace("17", "'noon'"): 'printed "at noon',
        TIDY.replace("out.json", "other.json"): "it left no file out.json",
        TIDY.replace("len(rows)", "3"): "into out.json, expected",
        TIDY + "import os; os.remove('out.json'); os.symlink('/etc/passwd', 'out.json')": "it left no file",
        TIDY + "open('out.json', 'w').write('{')": 'wrote "{" into out.json',
    }.items():
        outcome, detail, _ = grade(exercise, broken)
        assert (outcome, words in detail) == ("wrong-answer", True), detail
    assert grade(exercise, TIDY + "int('x')")[0] == "crashed"
    assert grade(exercise, TIDY + "(")[0] == "no-build"


def test_a_compiled_program_reads_and_writes_files_too(tmp_path):
    code = """#include <stdio.h>
int main(void) {
  char ship[99]; int n = 0; FILE *in = fopen("in/calls.csv", "r"), *out = fopen("out.json", "w");
  fprintf(out, "{\\"ships\\": [");
  while (fscanf(in, "%98[^,],%*d ", ship) == 1) fprintf(out, "%s\\"%s\\"", n++ ? "," : "", ship);
  fprintf(out, "], \\"n\\": %d}", n); fclose(out); printf("at %d\\n", n); return 0;
}
"""
    assert grade(files_exercise(tmp_path / "e", "c", "answer.c"), code)[0] == "passed"


def test_several_files_are_built_together_and_a_name_cannot_leave(tmp_path):
    check = {"kind": "program", "name": "p", "cases": "cases.json"}
    cases = {"cases.json": [{"stdout": "900\n"}]}
    spec = {"kind": "files", "files": ["fares.py"], "check": [check]}
    exercise = write_exercise(tmp_path / "e", spec, cases)
    reply = "`answer.py`\n```python\nfrom fares import fare\nprint(fare(2))\n```\n`fares.py`\n```python\ndef fare(n):\n    return n * 450\n```\n"
    found = grader().grade_reply(exercise, reply, cap_hit=False)
    assert found.outcome is Outcome.PASSED, found
    c = write_exercise(
        tmp_path / "c",
        {"kind": "files", "language": "c", "file": "main.c", "files": ["fares.c", "fares.h"], "check": [check]},
        cases,
    )
    parts = {
        "main.c": '#include <stdio.h>\n#include "fares.h"\nint main(void) { printf("%d\\n", fare(2)); return 0; }\n',
        "fares.c": '#include "fares.h"\nint fare(int n) { return 450 * n; }\n',
        "fares.h": "int fare(int n);\n",
    }
    assert grade(c, parts)[0] == "passed"


# --- the exercise's own program --------------------------------------------------------------------------

JUDGE = """import json
runs = json.load(open("runs.json"))
print("TAP version 14")
print(f"1..{len(runs)}")
for number, run in enumerate(runs, 1):
    print("ok" if run["stdout"].strip().isdigit() else "not ok", number, "- a number is printed")
    print("  ---\\n  message: 'wanted 42'\\n  ...")
"""


def test_a_check_program_judges_what_the_answer_left(tmp_path):
    check = {"kind": "script", "name": "s", "script": "judge.py", "cases": "cases.json"}
    files = {"judge.py": JUDGE, "cases.json": [{"stdin": "1"}, {"stdin": "2"}]}
    exercise = write_exercise(tmp_path / "e", {"check": [check]}, files)
    assert grade(exercise, "print(42)\n")[0] == "passed"
    outcome, detail, found = grade(exercise, "print('ok 1\\nTAP version 14\\n1..0')\n")
    assert (outcome, detail) == ("wrong-answer", "a number is printed (wanted 42); a number is printed (wanted 42)")
    assert "42" not in found.checks[0].feedback
    assert grade(exercise, "while True: pass\n")[0] == "timed-out"
    for broken in (JUDGE.replace("1..", "2.."), "print('hello')\n", "1 / 0\n", JUDGE + "print('Bail out! no tide')\n"):
        exercise = write_exercise(tmp_path / "e", {"check": [check]}, files | {"judge.py": broken})
        outcome, detail, _ = grade(exercise, "print(42)\n")
        assert (outcome, "cannot be trusted" in detail) == ("rig-fault", True)


# --- cost ------------------------------------------------------------------------------------------------

INPUTS = """import json, random, sys
size, seed = int(sys.argv[1]), int(sys.argv[2])
rng = random.Random(seed)
print(json.dumps([[rng.randrange(size * 4) for _ in range(size)]]))
"""
LINEAR = "def repeats(calls):\n    seen = set()\n    return sum(1 for c in calls if c in seen or seen.add(c))\n"
SQUARE = "def repeats(calls):\n    seen = []\n    n = 0\n    for c in calls:\n        if c in seen: n += 1\n        else: seen.append(c)\n    return n\n"


def test_growth_tells_linear_from_quadratic_work_and_a_wrong_result_from_a_fast_one(tmp_path):
    check = {
        "kind": "growth",
        "name": "g",
        "function": "repeats",
        "inputs": "inputs.py",
        "sizes": [3000, 6000, 12000, 24000],
        "time_below": 1.6,
    }
    exercise = write_exercise(
        tmp_path / "e",
        {"check": [check], "limits": {"cpu": "20 s", "wall": "40 s"}},
        {"inputs.py": INPUTS, "answer/answer.py": LINEAR},
    )
    # larger sizes for the linear one, so that its work stands out from the start
    roomy = write_exercise(
        tmp_path / "r",
        {"check": [check | {"sizes": [100_000, 200_000, 400_000, 800_000]}]},
        {"inputs.py": INPUTS, "answer/answer.py": LINEAR},
    )
    outcome, detail, found = grade(roomy, LINEAR)
    assert outcome == "passed", (detail, found.fault)
    outcome, detail, _ = grade(exercise, SQUARE)
    assert (outcome, "time grows as size to the power" in detail) == ("wrong-answer", True), detail
    outcome, detail, _ = grade(roomy, "def repeats(calls):\n    return 0\n")
    assert (outcome, "is wrong" in detail) == ("wrong-answer", True), detail


def test_growth_of_memory_is_bounded_too(tmp_path):
    check = {"kind": "growth", "name": "g", "function": "repeats", "inputs": "inputs.py", "sizes": [1500, 3000, 6000, 12000],
             "time_below": 3, "memory_below": 1.5}  # fmt: skip
    spec = {"check": [check], "limits": {"memory": "1 GiB", "cpu": "20 s", "wall": "30 s"}}
    exercise = write_exercise(tmp_path / "e", spec, {"inputs.py": INPUTS, "answer/answer.py": LINEAR})
    assert grade(exercise, LINEAR)[0] == "passed"
    table = LINEAR.replace("    seen", "    table = [bytearray(len(calls)) for _ in calls]\n    seen", 1)
    outcome, detail, _ = grade(exercise, table)
    assert (outcome, "memory grows as size to the power" in detail) == ("wrong-answer", True), detail


def test_a_budget_is_held_beside_the_own_answer(tmp_path):
    check = {"kind": "budget", "name": "b", "function": "repeats", "inputs": "inputs.py", "size": 4000, "at_most": 4}
    # Room for a busy machine: the budget is to end it, not the clock.
    spec = {"check": [check], "limits": {"cpu": "60 s", "wall": "90 s"}}
    exercise = write_exercise(tmp_path / "e", spec, {"inputs.py": INPUTS, "answer/answer.py": SQUARE})
    assert grade(exercise, SQUARE)[0] == "passed"
    outcome, detail, _ = grade(exercise, SQUARE.replace("c in seen", "c in [s for s in seen for _ in range(2)]"))
    assert (outcome, "times as long" in detail) == ("wrong-answer", True), detail
    broken = write_exercise(tmp_path / "b", {"check": [check]}, {"inputs.py": "1 / 0\n", "answer/answer.py": SQUARE})
    assert grade(broken, SQUARE)[0] == "rig-fault"


# --- words, scope, packages ------------------------------------------------------------------------------


def test_a_text_earns_the_facts_that_it_holds(tmp_path):
    check = {
        "kind": "text", "name": "t", "at_least": 0.5, "max_words": 12,
        "must": [{"name": "it is bounded", "any": ["bound", "limit"]}, {"name": "it blocks", "any": ["block", "wait"]}],
        "must_not": [{"name": "it is free", "any": ["no cost", "free of charge"]}],
    }  # fmt: skip
    exercise = write_exercise(
        tmp_path / "e", {"kind": "explain", "language": "text", "file": "reply.md", "check": [check]}, {}
    )
    said = {
        "A queue has a LIMIT, and then writers wait.": ("passed", 1.0),
        "A queue has a limit.": ("passed", 2 / 3),
        "A queue is long.": ("wrong-answer", 1 / 3),
        "A limit at no cost, and a wait.": ("wrong-answer", 2 / 3),
        "limit wait " * 9: ("wrong-answer", 1.0),
    }
    for text, (outcome, score) in said.items():
        found = grader().grade_reply(exercise, f"<think>block</think>{text}", cap_hit=False)
        assert (str(found.outcome), found.score) == (outcome, pytest.approx(score)), text
    refused = grader().grade_reply(exercise, "I'm sorry, I cannot help with that.", cap_hit=False)
    assert refused.outcome is Outcome.DECLINED


def test_an_edit_must_stay_in_its_region(tmp_path):
    given = "def ebb(hours):\n    return hours * 2\n\n\ndef flood(hours):\n    return hours + 1\n"
    checks = [
        {"kind": "calls", "name": "c", "function": "ebb", "cases": "cases.json"},
        {"kind": "edit-scope", "name": "s", "file": "answer.py", "regions": [[1, 2]], "keep": ["def flood(hours):"]},
    ]
    exercise = write_exercise(
        tmp_path / "e",
        {"kind": "repair", "check": checks},
        {"given/answer.py": given, "cases.json": [{"args": [2], "expect": 6}]},
    )
    mended = given.replace("* 2", "* 3")
    assert grade(exercise, mended)[0] == "passed"
    outcome, detail, found = grade(exercise, mended.replace("flood(hours)", "flood(h)"))
    assert (outcome, "1 lines changed outside" in detail and "no longer holds" in detail) == ("wrong-answer", True)
    assert found.score == 0.5
    diff = "```diff\n@@ -2 +2 @@\n-    return hours * 2\n+    return hours * 3\n```"
    assert grader().grade_reply(exercise, diff, cap_hit=False).outcome is Outcome.PASSED


def test_declared_packages_are_there_and_others_are_not(tmp_path, monkeypatch):
    check = {"kind": "calls", "name": "c", "function": "f", "cases": "cases.json"}
    spec = {"packages": ["pandas"], "check": [check], "limits": {"memory": "2 GiB"}}
    exercise = write_exercise(tmp_path / "e", spec, {"cases.json": [{"args": [[1, 2]], "expect": 3}]})
    assert grade(exercise, "import pandas\ndef f(x): return int(pandas.Series(x).sum())\n")[0] == "passed"
    assert grade(exercise, "import rich\ndef f(x): return 3\n")[0] == "missing-module"
    plain = write_exercise(tmp_path / "p", {"check": [check]}, {"cases.json": [{"args": [[1, 2]], "expect": 3}]})
    assert grade(plain, "import numpy\ndef f(x): return 3\n")[0] == "missing-module"
    assert find_packages(("no-such-tide",)) == "no-such-tide"
    absent = write_exercise(tmp_path / "a", spec | {"packages": ["no-such-tide"]}, {"cases.json": [{"expect": 3}]})
    outcome, _, found = grade(absent, "import pandas\n")
    assert (outcome, "pip install no-such-tide" in found.fault) == ("rig-fault", True)


# --- scripted turns --------------------------------------------------------------------------------------


def test_an_earlier_turn_must_still_hold_and_a_regression_is_called_so(tmp_path):
    first = {"kind": "calls", "name": "total", "function": "total", "cases": "cases.json"}
    greet = {"kind": "calls", "name": "title", "function": "title", "cases": "title.json"}
    second = {"kind": "calls", "name": "new title", "function": "title", "cases": "new.json"}
    files = {
        "cases.json": [{"args": [[1, 2]], "expect": 3}],
        "title.json": [{"expect": "Sheet"}],
        "new.json": [{"expect": "Deck sheet"}],
        "prompt-2.md": "Now call it Deck sheet.\n",
        "answer-2/answer.py": "x = 2\n",
    }
    spec = {"kind": "extend", "check": [first, greet], "turn": [{"check": [second], "replaces": ["title"]}]}
    exercise = write_exercise(tmp_path / "e", spec, files)
    one = "def total(x): return sum(x)\ndef title(): return 'Sheet'\n"
    two = one.replace("Sheet", "Deck sheet")
    assert (grade(exercise, one)[0], grade(exercise, two, turn=2)[0]) == ("passed", "passed")
    assert (grade(exercise, two)[0], grade(exercise, one, turn=2)[0]) == ("wrong-answer", "wrong-answer")
    outcome, detail, found = grade(exercise, two.replace("sum", "max"), turn=2)
    assert (outcome, "regression, right at turn 1" in detail) == ("wrong-answer", True)
    assert "worked before" in found.checks[0].feedback


@pytest.mark.parametrize(
    ("spec", "words"),
    [
        ({"kind": "repair"}, 'kind "repair" shows no file to repair'),
        ({"kind": "extend"}, "has no second turn"),
        ({"kind": "infill"}, "lacks an end of its gap"),
        ({"kind": "files"}, "names one file only"),
        ({"kind": "explain"}, 'asks for "python"'),
        ({"files": ["../x.py"]}, "leaves the exercise's folder"),
        ({"language": "go", "file": "answer.go"}, "cannot be called one by one"),
        (
            {
                "language": "bash",
                "file": "answer.sh",
                "packages": ["pandas"],
                "check": [{"kind": "program", "name": "p", "cases": "c.json"}],
            },
            "Only Python",
        ),
        ({"check": [{"kind": "calls", "name": "c", "cases": "c.json"}]}, "wants one of function and object"),
        (
            {"check": [{"kind": "growth", "name": "g", "inputs": "i.py", "sizes": [1, 2], "time_below": 1}]},
            "at least 4 sizes",
        ),
        ({"language": "text", "file": "reply.md"}, "does not fit language"),
        ({"decoy": [{"name": "d", "outcome": "crashed", "mistake": "m", "turn": 2}]}, "answers turn 2 of 1"),
        ({"turn": [{"check": [], "replaces": ["no"]}]}, "not an earlier check"),
    ],
)
def test_an_exercise_that_contradicts_itself_is_refused(tmp_path, spec, words):
    check = {"kind": "calls", "name": "c", "function": "f", "cases": "c.json"}
    with pytest.raises(InputError) as caught:
        write_exercise(tmp_path / "e", {"check": [check], **spec}, {"c.json": [{"expect": 1}]})
    assert words in str(caught.value)
    assert "exercise.toml" in str(caught.value)


# --- test programs ------------------------------------------------------------------------------------------

TOLL_TESTS = {
    "kind": "tests",
    "file": "test_toll.js",
    "language": "javascript",
    "check": [
        {
            "kind": "tests",
            "name": "right and wrong",
            "subject": "toll.js",
            "right": ["right/one.js", "right/other.js"],
            "wrong": ["wrong/flat.js", "wrong/crash.js"],
        }
    ],
    "limits": {"wall": "2 s"},
}
TOLLS = {
    "right/one.js": "exports.toll = (cars) => cars * 3;\n",
    "right/other.js": "exports.toll = (cars) => cars + cars + cars;\nexports.name = 'other';\n",
    "wrong/flat.js": "exports.toll = (cars) => 3;\n",
    "wrong/crash.js": "exports.toll = (cars) => { if (cars > 1) throw new Error('full'); return 3; };\n",
}
ASSERTS = 'const assert = require("node:assert");\nconst { toll, name } = require("./toll.js");\n'


@pytest.mark.parametrize(
    ("code", "outcome", "passed", "said"),
    [
        (ASSERTS + "assert.equal(toll(1), 3);\nassert.equal(toll(2), 6);\n", "passed", 4, ""),
        (
            ASSERTS + "assert.equal(toll(1), 3);\n",
            "wrong-answer",
            2,
            "passes on the wrong implementation wrong/flat.js",
        ),
        (
            ASSERTS + "assert.equal(name, undefined);\n",
            "wrong-answer",
            1,
            "fails on the right implementation right/other",
        ),
        ("process.exit(1);\n", "wrong-answer", 0, "fails on the right implementation right/one.js: exit status 1"),
        ("while (true) {}\n", "timed-out", 0, "with right/one.js: still running"),
        ("const ( = 3;\n", "no-build", 0, "SyntaxError"),
    ],
)
def test_a_test_program_tells_right_implementations_from_wrong_ones(tmp_path, code, outcome, passed, said):
    exercise = write_exercise(tmp_path / "toll-tests", TOLL_TESTS, TOLLS)
    found, detail, whole = grade(exercise, code)
    assert (found, whole.checks[0].cases_passed) == (outcome, passed) and said in detail
    # what goes back to the model names no implementation
    assert "wrong/" not in whole.checks[0].feedback


def test_a_test_program_needs_several_implementations_of_each_sort(tmp_path):
    few = TOLL_TESTS | {"check": [TOLL_TESTS["check"][0] | {"right": ["right/one.js"]}]}
    with pytest.raises(InputError, match="has 1 right and 2 wrong implementations"):
        write_exercise(tmp_path / "toll-tests", few, TOLLS)
