"""Demands that are claimed and proved, other honest answers, and checks that see what an output alone hides."""

from pathlib import Path

import pytest
from exercises import Stalling, grader, write_exercise

from kettlefield.core.errors import InputError
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.grading.claims import demands
from kettlefield.grading.grader import Grader
from kettlefield.grading.suite_vetting import is_vetted_with
from kettlefield.grading.vetting import vet_exercise
from kettlefield.languages.all_languages import find_toolchain
from kettlefield.languages.language import Missing
from kettlefield.sandbox.runner import available_isolation
from kettlefield.suite.loader import find_suite, load_exercise, load_suite

PROMPT = "Write `dues(metres)`: a list with the dues of each ship, sorted. A ship of at most 9 metres pays nothing.\n"
ANSWER = "def dues(metres):\n    return sorted(m * 2 if m > 9 else 0 for m in metres)\n"
CLAIMS = [{"says": "at most 9 metres", "broken_by": "ten"}, {"says": "sorted", "broken_by": "as-met"}]
SPEC = {
    "entry": "dues",
    "check": [{"kind": "calls", "name": "c", "function": "dues", "cases": "cases.json", "arguments": "free"}],
    "decoy": [
        {"name": "ten", "outcome": "wrong-answer", "mistake": "Lets 9 metres pay."},
        {"name": "as-met", "outcome": "wrong-answer", "mistake": "Does not sort."},
    ],
}
FILES = {
    "prompt.md": PROMPT,
    "answer/answer.py": ANSWER,
    "decoys/ten/answer.py": ANSWER.replace("m > 9", "m > 8"),
    "decoys/as-met/answer.py": ANSWER.replace("sorted(", "list("),
    "also/loop/answer.py": "def dues(metres):\n    out = []\n    for m in metres:\n        out.append(2 * m * (m > 9))\n"
    "    out.sort()\n    return out\n",
    "cases.json": [
        {"args": [[9, 10]], "expect": [0, 20], "by_hand": True},
        {"args": [[30, 20]], "expect": [40, 60], "by_hand": True},
        {"args": [[]], "expect": [], "by_hand": True},
    ],
}


def faults(tmp_path, spec, files, *, name="harbour-dues"):
    vetted = vet_exercise(write_exercise(tmp_path / name, SPEC | spec, FILES | files), grader())
    return " ".join([*vetted.faults, vetted.warning])


def test_a_demand_wants_a_claim_and_a_claim_a_decoy_of_its_own(tmp_path):
    assert faults(tmp_path, {"claim": CLAIMS}, {}) == ""
    assert "claims none of its 2 demands" in faults(tmp_path, {}, {})
    assert 'no claim covers "A ship of at most 9' in faults(tmp_path, {"claim": CLAIMS[1:]}, {})
    elsewhere = [*CLAIMS, {"says": "in pounds", "broken_by": "ten"}]
    said = faults(tmp_path, {"claim": elsewhere}, {})
    assert 'no prompt says "in pounds"' in said and 'decoy "ten" breaks 2 claims' in said
    gross = {"decoys/ten/answer.py": "def dues(metres):\n    return [7]\n"}
    assert 'fails all of 3 cases: it breaks more than "at most 9' in faults(tmp_path, {"claim": CLAIMS}, gross)
    assert faults(tmp_path, {"claim": [CLAIMS[0] | {"everywhere": True}, CLAIMS[1]]}, gross) == ""
    dishonest = {"also/loop/answer.py": ANSWER.replace("9", "3")}
    assert 'the honest answer "loop" ends wrong-answer' in faults(tmp_path, {"claim": CLAIMS}, dishonest)
    with pytest.raises(InputError, match='"tenn", which is no decoy here'):
        write_exercise(tmp_path / "odd", SPEC | {"claim": [{"says": "sorted", "broken_by": "tenn"}]}, FILES)


def test_what_a_busy_host_does_is_no_fault_of_the_suite(tmp_path):
    exercise, busy = write_exercise(tmp_path / "dues", SPEC | {"claim": CLAIMS}, FILES), Grader(available_isolation())
    for runs in (1, 2, 99):
        busy.sandbox = Stalling(runs)
        found = vet_exercise(exercise, busy).faults
        assert ["timed-out" in fault for fault in found] == [True] * (4 if runs == 99 else 0), found


def test_sentences_that_demand_something_are_told_from_those_that_describe(tmp_path):
    text = (
        "Each line of input holds a ship. Print the longest one first; ties go by name.\n\n- It must end.\n"
        "- Berths are numbers.\n\n```\nonly code, never a demand\n```\n\n1. What is first? a) one b) two\n"
    )
    assert demands(text) == ["Print the longest one first; ties go by name.", "- It must end."]


def test_the_comments_of_a_stub_are_its_task_and_code_that_is_shown_is_none(tmp_path):
    stub = {
        "prompt.md": "Fill this in, please.\n\n```python\n# " + PROMPT.rstrip() + "\ndef dues(metres):\n    ...\n```\n"
    }
    assert faults(tmp_path, {"claim": CLAIMS, "voice": "stub"}, stub) == ""
    assert 'no claim covers "A ship of at most 9' in faults(tmp_path, {"claim": CLAIMS[1:], "voice": "stub"}, stub)
    assert 'no prompt says "sorted", which is claimed' in faults(tmp_path, {"claim": CLAIMS}, stub)
    with pytest.raises(InputError, match="voice"):
        write_exercise(tmp_path / "odd", SPEC | {"voice": "song"}, FILES)


def test_every_exercise_of_the_built_in_suite_claims_what_it_demands():
    exercises = load_suite(CHECKS, find_suite("berthdesk", Path())).exercises
    assert [one.id for one in exercises if not one.spec.claim] == []
    compiled = load_suite(CHECKS, find_suite("berthdesk", Path()), seed=2).exercises
    values = [one for one in compiled if one.spec.varies == "values"]
    taken = {one.spec.language for one in values if is_vetted_with(one, 2)}
    assert "python" in taken and not taken & {"c", "rust"}
    assert {one.spec.language for one in values if is_vetted_with(one, 6)} > {"c", "rust"}
    assert all(is_vetted_with(one, 2) for one in compiled if one.spec.varies == "rules")


PYTHON = {
    "keeps what it was given": ("def f(a):\n    return sorted(a)\n", "passed", ""),
    "changes it": ("def f(a):\n    a.sort()\n    return list(a)\n", "wrong-answer", "changed argument 1"),
    "changes it, then raises": ("def f(a):\n    if not a:\n        raise ValueError\n    b = sorted(a)\n    a.clear()\n"
                                "    return b\n", "wrong-answer", "changed argument 1"),
    "gives floats": ("def f(a):\n    return [float(x) for x in sorted(a)]\n", "wrong-answer", "gave [1.0"),
    "gives truth values": ("def f(a):\n    return [True, *sorted(a)[1:]] if a else []\n", "wrong-answer", "gave [true"),
}  # fmt: skip


@pytest.mark.parametrize("name", PYTHON)
def test_a_call_leaves_its_arguments_and_whole_numbers_stay_whole(tmp_path, name):
    code, outcome, words = PYTHON[name]
    check = {"kind": "calls", "name": "c", "function": "f", "cases": "cases.json"}
    cases = {"cases.json": [{"args": [[3, 1]], "expect": [1, 3]}]}
    exercise = write_exercise(tmp_path / "e", {"check": [check]}, cases)
    grade = grader().grade_files(exercise, {"answer.py": code})
    assert (str(grade.outcome), words in grade.checks[0].detail) == (outcome, True), grade.checks[0].detail
    loose = check | {"arguments": "free", "whole_numbers": "by-value"}
    exercise = write_exercise(tmp_path / "loose", {"check": [loose]}, cases)
    passes = "truth" not in name
    assert (str(grader().grade_files(exercise, {"answer.py": code}).outcome) == "passed") is passes


def test_the_order_of_keys_tuples_and_modules_by_themselves(tmp_path):
    cases = [{"args": [{"$tuple": ["b", "a"]}], "expect": {"b": 0, "a": 1}}]
    check = {"kind": "calls", "name": "c", "function": "f", "cases": "cases.json", "file": "part.py", "key_order": True}
    spec = {"kind": "files", "files": ["part.py"], "check": [check]}
    files = {"answer/part.py": "x = 1\n", "cases.json": cases}
    exercise = write_exercise(tmp_path / "e", spec, files)
    right = "def f(names):\n    assert type(names) is tuple\n    return {n: i for i, n in enumerate(names)}\n"
    for code, outcome in ((right, "passed"), (right.replace("enumerate(names)}", "sorted(enumerate(names), key=str)}"
                           ).replace("key=str", "key=lambda p: p[1]"), "wrong-answer")):  # fmt: skip
        assert str(grader().grade_files(exercise, {"answer.py": "x = 1\n", "part.py": code}).outcome) == outcome
    script = "const f = (o) => { o.n += 1; return 2; };\nmodule.exports = { f };\n"
    check = {"kind": "calls", "name": "c", "function": "f", "cases": "cases.json"}
    changing = write_exercise(
        tmp_path / "js",
        {"language": "javascript", "file": "answer.js", "check": [check]},
        {"cases.json": [{"args": [{"n": 1}], "expect": 2}]},
    )
    assert "changed argument 1" in grader().grade_files(changing, {"answer.js": script}).checks[0].detail


SANITISED = {
    # language, right program, what makes it wrong though it prints the same, what is reported
    "c": ("c", '#include <stdio.h>\n#include <stdlib.h>\nint main(void) {{ char *p = malloc(8); if (!p) return 1; p[{at}] = 1;'
          ' puts("1"); free(p); return 0; }}\n', "7", "8", "insufficient space"),
    "c leak": ("c", '#include <stdio.h>\n#include <stdlib.h>\nstatic void f(void) {{ char *p = malloc(8); p[0] = 1;'
               ' puts(p[0] == 1 ? "1" : "0"); {at} }}\nint main(void) {{ f(); return 0; }}\n', "free(p);", "",
               "LeakSanitizer"),
    "cpp": ("cpp", '#include <iostream>\nint main(int c, char **) {{ int x = 2147483647 - 1 + {at} * c; std::cout << (x != 5);'
            ' }}\n', "0", "2", "runtime error: signed integer overflow"),
    "rust": ("rust", 'fn main() {{ let n: i32 = std::env::args().count() as i32; let x = i32::MAX - 1 + n * {at};'
             ' println!("{{}}", (x != 5) as i32); }}\n', "1", "2", "overflow"),
}  # fmt: skip


@pytest.mark.parametrize("name", SANITISED)
def test_a_sanitised_build_sees_what_the_output_hides(tmp_path, name):
    language, program, right, wrong, report = SANITISED[name]
    if isinstance(find_toolchain(language), Missing):
        pytest.fail(f"{language} is missing; ./test.sh installs it")
    check = {"kind": "program", "name": "c", "cases": "cases.json"}
    file = {"c": "answer.c", "cpp": "answer.cpp", "rust": "answer.rs"}[language]
    spec, cases = {"language": language, "file": file}, {"cases.json": [{"stdout": "1\n"}]}
    exercise = write_exercise(tmp_path / "e", spec | {"check": [check]}, cases)
    good, bad = ({file: program.format(at=at)} for at in (right, wrong))
    assert str(grader().grade_files(exercise, good).outcome) == "passed"
    grade = grader().grade_files(exercise, bad)
    assert (str(grade.outcome), report in grade.checks[0].detail) == ("wrong-answer", True), grade.checks[0].detail
    exercise = write_exercise(tmp_path / "off", spec | {"check": [check | {"sanitise": False}]}, cases)
    assert str(grader().grade_files(exercise, bad).outcome) == "passed"


def test_a_driver_takes_the_place_of_the_main_file(tmp_path):
    checks = [
        {"kind": "program", "name": "whole", "cases": "cases.json"},
        {"kind": "program", "name": "part", "cases": "driven.json", "driver": "driver.c"},
    ]
    spec = {"kind": "files", "language": "c", "file": "main.c", "files": ["ebb.h", "ebb.c"], "check": checks}
    part = {"ebb.h": "int ebb(int);\n", "ebb.c": '#include "ebb.h"\nint ebb(int n) { return n * 2; }\n'}
    main = '#include <stdio.h>\n#include "ebb.h"\nint main(void) { printf("%d\\n", ebb(2)); return 0; }\n'
    files = {f"answer/{name}": text for name, text in part.items()} | {
        "answer/main.c": main, "driver.c": main.replace("ebb(2)", "ebb(5)"),
        "cases.json": [{"stdout": "4\n"}], "driven.json": [{"stdout": "10\n"}],
    }  # fmt: skip
    exercise = write_exercise(tmp_path / "e", spec, files)
    assert str(grader().grade_files(exercise, {"main.c": main, **part}).outcome) == "passed"
    fitted = part | {"ebb.c": part["ebb.c"].replace("n * 2", "4")}
    grade = grader().grade_files(exercise, {"main.c": main, **fitted})
    assert [check.passed for check in grade.checks] == [True, False]
    renamed = {name: text.replace("ebb(", "flow(") for name, text in part.items()}
    grade = grader().grade_files(exercise, {"main.c": main.replace("ebb(", "flow("), **renamed})
    assert "with driver.c in the place of main.c" in grade.checks[1].detail


def test_an_explanation_answers_its_questions(tmp_path):
    check = {"kind": "text", "name": "t", "question": [{"number": 1, "right": "b"}, {"number": 2, "right": "a"}]}
    prompt = "Why?\n\n1. Which? a) one b) two\n2. When? a) now b) then\n"
    exercise = write_exercise(
        tmp_path / "e",
        {"kind": "explain", "language": "text", "file": "reply.md", "check": [check]},
        {"prompt.md": prompt},
    )
    said = {
        "Because.\n\n1: b\n2: a": "passed",
        "1. A list is slow.\n2. Because.\n\n- 1: **B**\n- 2) a": "passed",
        "Because.\n\nQuestion 1: (b)\nQ2 - a": "passed",
        "Because.\n\n1: a\n2: a": "wrong-answer",
        "1: b, and no more": "wrong-answer",
    }
    for text, outcome in said.items():
        assert str(grader().grade_reply(exercise, text, cap_hit=False).outcome) == outcome, text
    check["question"][1]["right"] = "c"
    exercise = write_exercise(tmp_path / "e", {"kind": "explain", "language": "text", "file": "reply.md",
                              "check": [check]}, {"prompt.md": prompt})  # fmt: skip
    assert "never puts question 2" in " ".join(vet_exercise(exercise, grader()).faults)


def test_a_variant_fills_its_claims_too(tmp_path):
    spec = {"claim": [CLAIMS[0] | {"says": "at most @@most@@ metres"}, CLAIMS[1]]}
    vary = {"vary": {"most": {"base": 9, "low": 7, "high": 20}}}
    filled = {name: text.replace("9 ", "@@most@@ ") if isinstance(text, str) else text for name, text in FILES.items()}
    write_exercise(tmp_path / "harbour-dues", SPEC | spec | vary, filled)
    says = load_exercise(CHECKS, tmp_path / "harbour-dues", 3).spec.claim[0].places[0]
    assert says in load_exercise(CHECKS, tmp_path / "harbour-dues", 3).prompt and "@@" not in says
