"""Every language: a right answer, a wrong one, a crash, no build, a missing package, no end."""

from pathlib import Path

import pytest
from exercises import grader

from kettlefield.core.extraction.extract import extract_answer
from kettlefield.core.extraction.wanted import Wanted
from kettlefield.grading import builds
from kettlefield.grading.checks.programs import ProgramCase, ProgramCheck
from kettlefield.grading.grader import Grader
from kettlefield.languages.all_languages import LANGUAGES, find_toolchain
from kettlefield.languages.language import Missing
from kettlefield.rig.remembered import MOST_FILES, recall_file, remember_file
from kettlefield.sandbox.runner import available_isolation
from kettlefield.suite.format import Exercise, ExerciseFile, Limits, Turn

FILES = {"java": "Answer.java", "kotlin": "Main.kt"}
SETUP = "CREATE TABLE tide (height INTEGER); INSERT INTO tide VALUES (3), (4);\n"

RIGHT = {
    "python": "import sys\nprint(sum(int(line) for line in sys.stdin))\n",
    "javascript": "const t = require('fs').readFileSync(0, 'utf8').trim().split('\\n');\n"
    "console.log(t.map(Number).reduce((a, b) => a + b, 0));\n",
    "c": '#include <stdio.h>\nint main(void) { int a, s = 0; while (scanf("%d", &a) == 1) s += a; printf("%d\\n", s); return 0; }\n',
    "cpp": "#include <iostream>\nint main() { int a, s = 0; while (std::cin >> a) s += a; std::cout << s << '\\n'; }\n",
    "rust": "use std::io::Read;\nfn main() {\n    let mut t = String::new();\n    std::io::stdin().read_to_string(&mut t).unwrap();\n"
    '    let s: i64 = t.lines().map(|l| l.parse::<i64>().unwrap()).sum();\n    println!("{}", s);\n}\n',
    "java": "import java.util.Scanner;\npublic class Answer {\n    public static void main(String[] args) {\n"
    "        Scanner in = new Scanner(System.in);\n        int s = 0;\n        while (in.hasNextInt()) s += in.nextInt();\n"
    "        System.out.println(s);\n    }\n}\n",
    "go": 'package main\n\nimport "fmt"\n\nfunc main() {\n\tvar a, s int\n\tfor {\n\t\tif _, err := fmt.Scan(&a); err != nil {\n'
    "\t\t\tbreak\n\t\t}\n\t\ts += a\n\t}\n\tfmt.Println(s)\n}\n",
    "bash": "s=0\nwhile read -r a; do\n  s=$((s + a))\ndone\necho $s\n",
    "sql": "SELECT sum(height) AS total FROM tide;\n",
    "ruby": "puts STDIN.read.split.map(&:to_i).sum\n",
    "php": "<?php\necho array_sum(array_map('intval', file('php://stdin'))), \"\\n\";\n",
    "csharp": "using System;\nclass Program {\n    static void Main() {\n        int s = 0;\n        string line;\n        while ((line = Console.ReadLine()) != null) s += int.Parse(line);\n        Console.WriteLine(s);\n    }\n}\n",
    "typescript": 'import * as fs from "fs";\nconst heights: number[] = fs.readFileSync(0, "utf8").trim().split("\\n").map(Number);\nconsole.log(heights.reduce((a, b) => a + b, 0));\n',
    "kotlin": "fun main() {\n    println(generateSequence(::readLine).map { it.toInt() }.sum())\n}\n",
}
# how a right answer becomes a wrong one, and what crashes, does not build, or needs what is not there
WRONG = {
    "python": ("sum(", "1 + sum("), "javascript": ("a + b", "a - b"), "c": ("s += a", "s -= a"), "cpp": ("s += a", "s -= a"),
    "rust": (".sum()", ".product()"), "java": ("s += in", "s -= in"), "go": ("s += a", "s -= a"), "bash": ("s + a", "s - a"),
    "sql": ("sum(", "max("),
    "ruby": (".sum", ".max"), "php": ("array_sum", "max"), "csharp": ("s += ", "s -= "), "typescript": ("a + b", "a - b"), "kotlin": (".sum()", ".max()"),
}  # fmt: skip
CRASH = {
    "python": "raise ValueError('ebb')",
    "javascript": "throw new Error('ebb');",
    "c": "#include <stdlib.h>\nint main(void) { abort(); }\n",
    "cpp": '#include <stdexcept>\nint main() { throw std::runtime_error("ebb"); }\n',
    "rust": 'fn main() { panic!("ebb"); }\n',
    "java": "public class Answer { public static void main(String[] a) { throw new RuntimeException(); } }\n",
    "go": 'package main\n\nfunc main() { panic("ebb") }\n',
    "bash": "exit 3\n",
    "sql": "SELECT ebb FROM tide;\n",
    "ruby": "raise 'ebb'\n",
    "php": "<?php\nthrow new Exception('ebb');\n",
    "csharp": 'class Program { static void Main() { throw new System.Exception("ebb"); } }\n',
    "typescript": 'throw new Error("ebb");\n',
    "kotlin": 'fun main() {\n    throw IllegalStateException("ebb")\n}\n',
}
NO_BUILD = {
    "python": "print((", "javascript": "console.log((", "c": "int main(void) { return x; }\n", "cpp": "int main() { return x; }\n",
    "rust": "fn main() { let a: i32 = \"x\"; }\n", "java": "public class Answer { int }\n", "go": "package main\n\nfunc main() { x }\n",
    "bash": "if then\n", "sql": "SELEC height FROM tide;\n",
    "ruby": "def tide(\n", "php": "<?php\necho (;\n", "csharp": "class Program { static void Main() { int a = \"x\"; } }\n",
    "typescript": "const a: number = \"x\";\n", "kotlin": "fun main() {\n    val a: Int = \"x\"\n}\n",
}  # fmt: skip
NOT_THERE = {
    "python": "import saltmarsh\n",
    "javascript": "require('saltmarsh');\n",
    "c": "#include <saltmarsh.h>\nint main(void) { return 0; }\n",
    "cpp": "#include <saltmarsh.hpp>\nint main() {}\n",
    "rust": "use saltmarsh::tide;\nfn main() { tide(); }\n",
    "java": "import org.saltmarsh.Tide;\npublic class Answer { public static void main(String[] a) { new Tide(); } }\n",
    "go": 'package main\n\nimport "saltmarsh/tide"\n\nfunc main() { tide.Ebb() }\n',
    "bash": "saltmarsh-tide --ebb\n",
    "ruby": "require 'saltmarsh'\n",
    "php": "<?php\nrequire 'vendor/autoload.php';\n",
    "csharp": "using Saltmarsh;\nclass Program { static void Main() { } }\n",
    "typescript": 'import { tide } from "saltmarsh";\ntide();\n',
    "kotlin": "import org.saltmarsh.tide\n\nfun main() {\n    tide()\n}\n",
}
ENDLESS = {
    "python": "while True: pass\n", "javascript": "while (true) {}\n", "c": "int main(void) { for (;;) {} }\n",
    "cpp": "int main() { volatile int a = 0; for (;;) a = a + 1; }\n", "rust": "fn main() { loop { std::hint::spin_loop(); } }\n",
    "java": "public class Answer { public static void main(String[] a) { while (true) {} } }\n",
    "go": "package main\n\nfunc main() { for { } }\n", "bash": "while :; do :; done\n",
    "sql": "WITH RECURSIVE c(x) AS (SELECT 1 UNION ALL SELECT x + 1 FROM c) SELECT count(*) FROM c;\n",
    "ruby": "loop { }\n", "php": "<?php\nwhile (true) { }\n", "csharp": "class Program { static void Main() { while (true) { } } }\n",
    "typescript": "while (true) { }\n", "kotlin": "fun main() {\n    while (true) { }\n}\n",
}  # fmt: skip


def exercise(language, *cases, **check):
    file = FILES.get(language, "answer" + LANGUAGES[language].suffix)
    sql = language == "sql"
    spec = ExerciseFile(
        title="Sum of tides", kind="write", language=language, file=file, difficulty=1, topics=("tides",), tests="all",
        check=(ProgramCheck(name="sum", cases="cases.json", **check),), decoy=(), limits=Limits(wall=4.0, cpu=2.0, memory=512 * 2**20),
    )  # fmt: skip
    usual = ProgramCase(stdin=SETUP, stdout="total\n7\n") if sql else ProgramCase(stdin="3\n4\n", stdout="7\n")
    cases = cases or (usual,)
    return Exercise(
        id="tides",
        folder=Path(),
        spec=spec,
        turns=(Turn(prompt="", checks=spec.check, answer={}),),
        cases={"sum": tuple(cases) * 2},
        scripts={},
        given={},
        opening=None,
        closing="",
        decoys={},
    )


def outcome(language, code):
    chosen = exercise(language)
    grade = grader().grade_files(chosen, {chosen.spec.file: code})
    return str(grade.outcome), grade.fault or (grade.checks[0].detail if grade.checks else "")


@pytest.mark.parametrize("language", LANGUAGES.programs)
def test_a_language_is_here_and_each_end_is_told_apart(language):
    assert not isinstance(find_toolchain(language), Missing), find_toolchain(language)
    before, after = WRONG[language]
    assert before in RIGHT[language]
    wanted = {
        "passed": RIGHT[language],
        "wrong-answer": RIGHT[language].replace(before, after),
        "crashed": CRASH[language],
        "no-build": NO_BUILD[language],
        "timed-out": ENDLESS[language],
    }
    if language in NOT_THERE:
        wanted["missing-module"] = NOT_THERE[language]
    found = {end: outcome(language, code) for end, code in wanted.items()}
    assert {end: got[0] for end, got in found.items()} == {end: end for end in wanted}, found


TOGETHER = [name for name in LANGUAGES.programs if (recipe := LANGUAGES[name].recipe) and recipe.together]


@pytest.mark.parametrize("language", TOGETHER)
def test_what_is_built_together_is_what_is_built_alone(language, monkeypatch):
    chosen, ours = exercise(language), grader()
    before, after = WRONG[language]
    texts = {
        "passed": RIGHT[language],
        "wrong-answer": RIGHT[language].replace(before, after),
        "no-build": NO_BUILD[language],
    }
    ours.build_ahead(chosen, [{chosen.spec.file: text} for text in texts.values()])
    alone = []
    run_alone = builds.run_compiler
    monkeypatch.setattr(builds, "run_compiler", lambda *all_of, **more: alone.append(1) or run_alone(*all_of, **more))
    for wanted, text in texts.items():
        grade = ours.grade_files(chosen, {chosen.spec.file: text})
        assert str(grade.outcome) == wanted, grade
        # what does not build is built once more, alone, so that the message is the compiler's own
        assert bool(alone) == (wanted == "no-build")
    assert grade.checks[0].detail


def test_what_a_compiler_was_prepared_with_is_remembered_and_made_again_where_it_is_damaged(tmp_path, monkeypatch):
    monkeypatch.setenv("XDG_CACHE_HOME", str(tmp_path))
    lines, run = [], builds.run_compiler
    monkeypatch.setattr(builds, "run_compiler", lambda tool, line, *more, **other: lines.append(line) or run(
        tool, line, *more, **other))  # fmt: skip
    preparation = LANGUAGES["java"].recipe.preparation
    for made in (1, 0, 1):  # afresh, remembered, damaged
        lines.clear()
        chosen, ours = exercise("java"), Grader(available_isolation())
        assert str(ours.grade_files(chosen, {chosen.spec.file: RIGHT["java"]}).outcome) == "passed"
        assert lines.count(preparation.line) == made
        (file,) = (tmp_path / "kettlefield" / builds.PREPARATIONS).iterdir()
        if not made:
            file.write_bytes(file.read_bytes()[:-1])
    for number in range(MOST_FILES + 2):
        remember_file("some", str(number), b"x")
    assert recall_file("some", "1") is None and recall_file("some", str(MOST_FILES + 1)) == b"x"
    # a cache that cannot be written costs time, and nothing else
    monkeypatch.setenv("XDG_CACHE_HOME", "/proc/nowhere")
    remember_file("some", "one", b"x")
    assert recall_file("some", "one") is None


ECHO = {
    "python": "import sys\nprint(len(sys.argv), *sys.argv[1:], 2 / 3)\n",
    "javascript": "console.log(process.argv.length - 1, ...process.argv.slice(2), 2 / 3);\n",
    "c": '#include <stdio.h>\nint main(int n, char **a) { printf("%d %s %s %.6f\\n", n, a[1], a[2], 2.0 / 3); }\n',
    "bash": 'echo $(($# + 1)) "$@" 0.6667\n',
}


@pytest.mark.parametrize("language", ECHO)
def test_arguments_go_in_and_numbers_come_out_within_a_tolerance(language):
    case = ProgramCase(args=("ebb tide", "-x"), stdout="3 ebb tide -x 0.66666")
    for tolerance, wanted in ((1e-3, "passed"), (1e-9, "wrong-answer")):
        chosen = exercise(language, case, tolerance=tolerance)
        grade = grader().grade_files(chosen, {chosen.spec.file: ECHO[language]})
        assert str(grade.outcome) == wanted, grade.checks
    assert 'with the arguments ["ebb tide", "-x"]' in grade.checks[0].feedback


def test_a_build_that_bombs_is_bounded():
    bomb = '#define A "x" "x" "x" "x" "x" "x" "x" "x"\n#define B A A A A A A A A\n#define C B B B B B B B B\n'
    bomb += (
        "#define D C C C C C C C C\n#define E D D D D D D D D\n#define F E E E E E E E E\n#define G F F F F F F F F\n"
    )
    bomb += "#define H G G G G G G G G\n#define I H H H H H H H H\nint main(void) { return sizeof(I I I I I I I I); }\n"
    assert outcome("c", bomb)[0] in {"over-limit", "timed-out", "no-build"}
    assert outcome("c", '#include "/dev/zero"\nint main(void) {}\n')[0] in {"over-limit", "timed-out", "no-build"}
    assert (
        outcome("c", '#include "/etc/shadow"\nint main(void) {}\n')[0] == "missing-module"
    )  # it is not there to be seen


@pytest.mark.parametrize("language", [name for name in LANGUAGES.programs if name != "python"])
def test_a_program_is_found_fenced_by_any_name_and_bare(language):
    wanted = Wanted(language=language, file="answer" + LANGUAGES[language].suffix)
    code = RIGHT[language]
    for alias in LANGUAGES[language].aliases:
        reply = f"Here:\n\n```{alias.upper()}\n{code}```\n\n```text\n7\n```\n"
        assert extract_answer(reply, wanted, LANGUAGES).text == code
    assert extract_answer(f"Here it is:\n\n{code}", wanted, LANGUAGES).text.strip() == code.strip()
