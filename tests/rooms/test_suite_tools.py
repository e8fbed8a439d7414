"""Variants, the lint of prompts, mutants, what a suite can show; and the commands that begin one."""

import random
import statistics
import subprocess
import sys
from collections import Counter
from pathlib import Path

import pytest
import tomli_w
from exercises import grader, write_exercise

from kettlefield.core.errors import InputError
from kettlefield.core.extraction.code_text import blanked
from kettlefield.core.statistics.power import effective_pairs, needed_pairs, smallest_drop
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.grading.mutants import make_mutants, try_mutants
from kettlefield.grading.suite_vetting import vet_suite
from kettlefield.grading.vetting import settle, vet_exercise
from kettlefield.languages.all_languages import LANGUAGES
from kettlefield.suite.loader import find_suite, load_exercise, load_suite
from kettlefield.suite.selection_power import suite_power
from kettlefield.suite.skeleton import new_suite

PROMPT = "Write toll(n): @@fee@@ pence each, named by the ship @@ship@@; raise ValueError below nothing.\n"
ANSWER = 'def toll(n):\n    if n < 0:\n        raise ValueError("n")\n    return ["@@ship@@", n * @@fee@@]\n'
VARYING = {
    "entry": "toll",
    "check": [{"kind": "calls", "name": "c", "function": "toll", "cases": "cases.json"}],
    "vary": {"fee": {"base": 5, "low": 3, "high": 9}, "ship": {"base": "Teal", "pick": ["Teal", "Knot", "Ruff", "Smew"]}},
    "decoy": [
        {"name": "flat", "outcome": "wrong-answer", "mistake": "Charges once."},
        {"name": "late", "outcome": "wrong-answer", "mistake": "Forgets the error."},
    ],
}  # fmt: skip
FILES = {
    "prompt.md": PROMPT,
    "answer/answer.py": ANSWER,
    "decoys/flat/answer.py": ANSWER.replace("n * ", ""),
    "decoys/late/answer.py": ANSWER.replace("n < 0", "n < -9"),
    "cases.json": [
        {"args": [2], "expect": ["Teal", 10], "by_hand": True},
        {"args": [0], "expect": ["Teal", 0], "by_hand": True},
        {"args": [-1], "raises": "ValueError", "by_hand": True},
    ],
}


FIXED = {key: value for key, value in VARYING.items() if key != "vary"}
PLAIN = {
    name: text.replace("@@fee@@", "5").replace("@@ship@@", "Teal") if isinstance(text, str) else text
    for name, text in FILES.items()
}


def test_a_seed_draws_a_variant_whose_expectations_its_own_answer_gives(tmp_path):
    base = write_exercise(tmp_path / "quay-toll", VARYING, FILES)
    assert "5 pence each, named by the ship Teal" in base.prompt and not base.is_variant
    prompts = {seed: load_exercise(CHECKS, tmp_path / "quay-toll", seed).prompt for seed in range(1, 6)}
    assert all("5 pence" not in prompt and "Teal" not in prompt for prompt in prompts.values())
    assert len(set(prompts.values())) > 2
    assert prompts[1] == load_exercise(CHECKS, tmp_path / "quay-toll", 1).prompt
    variant = load_exercise(CHECKS, tmp_path / "quay-toll", 1)
    settled = settle(variant, grader())
    cases = settled.cases["c"]
    assert cases[0].expect[1] == 2 * int(variant.prompt.split("toll(n): ")[1].split()[0])
    assert (cases[2].raises, any(case.by_hand for case in cases)) == ("ValueError", False)
    for exercise in (base, variant):
        assert vet_exercise(exercise, grader()).faults == ()


def test_a_seed_and_a_selection_set_a_suite_apart(tmp_path):
    write_exercise(tmp_path / "mine" / "quay-toll", VARYING | {"selection": "short"}, FILES)
    write_exercise(tmp_path / "mine" / "other", FIXED, PLAIN)
    (tmp_path / "mine" / "suite.toml").write_text('title = "t"\ndescription = "d"\n')
    found = load_suite(CHECKS, tmp_path / "mine")
    sister = load_suite(CHECKS, tmp_path / "mine", seed=7, selection="short")
    assert (len(found.exercises), len(sister.exercises)) == (2, 1)
    assert found.digest != sister.digest
    assert (found.label, sister.label) == ("mine", "mine, seed 7, short selection")


@pytest.mark.parametrize(
    ("spec", "files", "words"),
    [
        ({}, {"prompt.md": "Write toll: @@fees@@."}, "@@fees@@ is not a parameter"),
        ({"vary": {"fee": {"base": 5, "low": 5, "high": 6}}}, {}, "fewer than 3 values"),
        ({"check": [VARYING["check"][0] | {"compare": "one-of"}]}, {}, "whose expectation is not a single value"),
        ({"vary": {"fee": {"base": "up", "ways": {"up": {}, "down": {"says": "x"}}}}}, {}, "ways with different texts"),
        (
            {"vary": {"fee": {"base": "off", "ways": {"up": {}, "down": {}}}}},
            {},
            'the ways up, down and the base "off"',
        ),
        ({"vary": {"fee": {"base": "up", "low": 1, "ways": {"up": {}, "down": {}}}}}, {}, "has ways and values"),
    ],
)
def test_a_variant_that_cannot_be_is_refused(tmp_path, spec, files, words):
    with pytest.raises(InputError, match=words):
        write_exercise(tmp_path / "quay-toll", VARYING | spec, FILES | files)


@pytest.mark.parametrize(
    ("spec", "files", "words"),
    [
        ({}, {"prompt.md": "Write toll(n), 5 pence each."}, 'never names "ValueError"'),
        ({}, {"prompt.md": "Write it, 5 pence each, ValueError."}, 'never names the function "toll"'),
        ({}, {"prompt.md": "Write toll(n) 5 pence each; ValueError below nothing."}, "never says: Teal"),
        ({}, {"prompt.md": PLAIN["prompt.md"] + 'Teal gives ["Teal", 35].', "cases.json": [*PLAIN["cases.json"], {"args": [7], "expect": ["Teal", 35]}]}, "shows what a hidden case expects"),
        ({"decoy": FIXED["decoy"][:1]}, {}, "has 1 decoys"),
        ({}, {"cases.json": [{"args": [2], "expect": ["Teal", 10]}]}, "has 0 cases worked by hand"),
        ({"title": "TO BE WRITTEN"}, {}, "still to be written: exercise.toml"),
        ({"limits": {"wall": "0.02 s"}}, {"answer/answer.py": "import time\ntime.sleep(0.01)\n" + PLAIN["answer/answer.py"]}, " s in "),
    ],
)  # fmt: skip
def test_the_lint_of_an_exercise_finds(tmp_path, spec, files, words):
    exercise = write_exercise(tmp_path / "quay-toll", FIXED | spec, PLAIN | files)
    faults = vet_exercise(exercise, grader()).faults
    assert any(words in fault for fault in faults), faults


RULED = {
    "entry": "latest",
    "check": [{"kind": "calls", "name": "c", "function": "latest", "cases": "cases.json"}],
    "vary": {
        "tie": {
            "base": "first",
            "ways": {
                "first": {"says": "the one that stands first", "code": ">", "wrong": ">="},
                "last": {"says": "the one that stands last", "code": ">=", "wrong": ">"},
            },
        },
        "end": {
            "base": "up",
            "ways": {"up": {"says": "latest", "sign": "1"}, "down": {"says": "earliest", "sign": "-1"}},
        },
    },
    "decoy": [
        {"name": "ties", "outcome": "wrong-answer", "mistake": "Takes the other one of equal times."},
        {"name": "nothing", "outcome": "wrong-answer", "mistake": "Gives nothing."},
    ],
}
_PICK = """def latest(calls):
    best = None
    for name, time in calls:
        if best is None or @@end.sign@@ * time {} @@end.sign@@ * best[1]:
            best = name, time
    return best[0]
"""
RULED_FILES = {
    "prompt.md": "Write latest(calls): the name of the @@end.says@@ call in a list of [name, time]; of equal times\n"
    "@@tie.says@@. The list is not empty and stays unchanged.\n",
    "answer/answer.py": _PICK.format("@@tie.code@@"),
    "also/sorts/answer.py": "def latest(calls):\n    wanted = @@end.sign@@ * max(@@end.sign@@ * t for _, t in calls)\n"
    "    names = [name for name, time in calls if time == wanted]\n"
    "    return names[0 if '@@tie.code@@' == '>' else -1]\n",
    "decoys/ties/answer.py": _PICK.format("@@tie.wrong@@"),
    "decoys/nothing/answer.py": "def latest(calls):\n    return None\n",
    "cases.json": [
        {"args": [[["a", 1], ["b", 3], ["c", 3]]], "expect": "b", "by_hand": True},
        {"args": [[["a", 1], ["b", 1], ["c", 3]]], "expect": "c", "by_hand": True},
        {"args": [[["a", 4]]], "expect": "a", "by_hand": True},
    ],
}


def test_variants_differ_in_their_rules_and_a_second_answer_holds_what_they_expect_against_the_first(tmp_path):
    folder = tmp_path / "last-call"
    base = write_exercise(folder, RULED, RULED_FILES)
    assert (base.spec.varies, "latest call" in base.prompt, "stands first" in base.prompt) == ("rules", True, True)
    assert vet_exercise(base, grader()).faults == ()
    variants = [load_exercise(CHECKS, folder, seed) for seed in range(1, 9)]
    # all that two rules with two ways each come to, but for what is written
    assert {("earliest" in one.prompt, "stands last" in one.prompt) for one in variants} == {
        (True, False), (False, True), (True, True)
    }  # fmt: skip
    assert {tuple(case.expect for case in settle(one, grader()).cases["c"]) for one in variants} == {
        ("a", "a", "a"), ("c", "c", "a"), ("a", "b", "a")
    }  # fmt: skip
    for variant in variants[:3]:
        assert vet_exercise(variant, grader()).faults == ()
    wrong = RULED_FILES["also/sorts/answer.py"].replace("'@@tie.code@@' == '>'", "True")
    (folder / "also" / "sorts" / "answer.py").write_text(wrong)
    variant = next(one for one in variants if "stands last" in one.prompt and "latest" in one.prompt)
    seed = variants.index(variant) + 1
    found = vet_exercise(load_exercise(CHECKS, folder, seed), grader())
    assert found.faults[0].startswith('the honest answer "sorts" ends wrong-answer')


def test_of_many_seeds_those_are_vetted_that_draw_rules_or_values_of_their_own(tmp_path):
    write_exercise(tmp_path / "mine" / "last-call", RULED, RULED_FILES)
    (tmp_path / "mine" / "suite.toml").write_text('title = "t"\ndescription = "d"\n')
    asked = []
    (found,) = vet_suite(
        lambda seed: load_suite(CHECKS, tmp_path / "mine", seed=seed),
        grader(),
        seeds=20,
        workers=2,
        on_done=lambda _done, of, _name: asked.append(of),
    )
    # as written, and the three other ways in which two rules with two ways each go together
    assert (found.faults, asked) == ((), [4, 4, 4, 4])


@pytest.mark.parametrize(
    ("vary", "prompt", "words"),
    [
        ({"ship": {"base": "Teal", "pick": ["Knot", "Ruff", "Smew"]}}, "Write @@ship@@, not Knot.", '"Knot" stands beside'),
        ({"fee": {"base": 50, "low": 30, "high": 90}}, "It costs @@fee@@.\n\nTwo cost 100, one costs 50.", "50 is written out"),
        ({"way": {"base": "a", "ways": {"a": {"says": "late"}, "b": {"says": "early"}}}}, "Is it a @@way.says@@ call?", '"a early"'),
        ({"way": {"base": "a", "ways": {"a": {"says": "late"}, "b": {"says": "early"}}}}, "@@way.says@@", "no second answer"),
    ],
)  # fmt: skip
def test_a_variant_that_would_read_wrongly_is_found(tmp_path, vary, prompt, words):
    exercise = write_exercise(tmp_path / "quay-toll", FIXED | {"vary": vary}, PLAIN | {"prompt.md": prompt})
    assert any(words in fault for fault in vet_exercise(exercise, grader()).faults)


def test_near_duplicate_prompts_are_named(tmp_path, run_cli):
    folder = tmp_path / "mine"
    new_suite(folder)
    (folder / "quay-fee").rename(folder / "quay-two")
    (tmp_path / "again").mkdir()
    new_suite(tmp_path / "again" / "x")
    (tmp_path / "again" / "x" / "quay-fee").rename(folder / "quay-fee")
    done = run_cli("vet", folder, "--json", "--seeds", "1")
    faults = {e["id"]: e["faults"] for e in done.json["exercises"]}
    assert (done.code, faults) == (1, {"quay-fee": [], "quay-two": ['its prompt is nearly that of "quay-fee"']})


def test_mutants_change_one_thing_outside_strings_and_comments():
    text = "def f(x):\n    # 3 < 4\n    s = '5 < 6'\n    return x < 7 and True\n"
    mutants = make_mutants(text, LANGUAGES["python"], most=20, rng=random.Random(1))
    assert sorted(m.change for m in mutants) == [
        "line 4: 7 becomes 8", "line 4: < becomes <=", "line 4: True becomes False", "line 4: and becomes or",
    ]  # fmt: skip
    assert all(m.text.count("\n") == 4 and "# 3 < 4\n    s = '5 < 6'" in m.text for m in mutants)
    assert len(make_mutants(text, LANGUAGES["python"], most=2, rng=random.Random(1))) == 2
    java = make_mutants(
        "List<Integer> a; /* 1 < 2 */ char c = '<';\nx -> x << 2;", LANGUAGES["java"], most=9, rng=random.Random(1)
    )
    assert [m.change for m in java] == ["line 2: 2 becomes 3"]
    assert blanked("echo 'a # b' # c", LANGUAGES["bash"]) == "echo" + " " * 12


def test_checks_that_look_closely_catch_mutants_and_loose_ones_do_not(tmp_path):
    sharp = try_mutants(write_exercise(tmp_path / "a", FIXED, PLAIN), grader())
    assert sharp.made >= 3 and sharp.share == 1.0, sharp
    loose = try_mutants(
        write_exercise(tmp_path / "b", FIXED, PLAIN | {"cases.json": [{"args": [0], "expect": ["Teal", 0]}]}),
        grader(),
    )
    assert loose.share < sharp.share and loose.survivors == ("line 4: 5 becomes 6",)


def test_the_smallest_drop_by_connors_formula():
    # by hand: psi 0.2, d 0.1: ((1.644854 sqrt(0.2) + 0.841621 sqrt(0.19)) / 0.1)^2 = 121.5
    assert smallest_drop(121.5, discordant=0.2) == pytest.approx(0.1, abs=2e-4)
    assert smallest_drop(10, discordant=0.05) is None
    assert needed_pairs(0.1, discordant=0.2) == pytest.approx(121.5, abs=0.5)
    assert effective_pairs(72, 1) == 72
    assert effective_pairs(72, 3, likeness=0.5) == pytest.approx(108)
    with pytest.raises(ValueError, match="outside"):
        smallest_drop(0, discordant=0.2)


def test_a_suite_begun_by_the_commands_vets_and_is_qualified_with(tmp_path, run_cli, run_main, make_plan):
    assert run_cli("suite", "new", "mine", cwd=tmp_path).code == 0
    folder = tmp_path / "mine"
    kinds = ["write", "steps", "repair", "extend", "continue", "infill", "data", "speed", "explain", "files", "page"]
    for kind in kinds:
        added = run_main(
            "suite", "add", kind, f"my-{kind}", "--in", folder, *(["--language", "go"] if kind == "write" else [])
        )
        assert added.code == 0, added.err
    done = run_cli("vet", folder, "--json")
    assert done.code == 1
    faults = {e["id"]: e["faults"] for e in done.json["exercises"]}
    assert faults.pop("quay-fee") == []
    assert all(len(found) == 1 and "still to be written" in found[0] for found in faults.values()), faults
    for kind in kinds:
        for path in sorted((folder / f"my-{kind}").rglob("*"), reverse=True):
            path.rmdir() if path.is_dir() else path.unlink()
        (folder / f"my-{kind}").rmdir()
    assert run_cli("vet", folder, "--lock", "--mutants").code == 0
    listed = run_main("suite", "list", folder, "--json", "--power").json
    assert [e["id"] for e in listed["exercises"]] == ["quay-fee"] and listed["power"]["selections"][0]["exercises"] == 1
    assert "quay-fee" in run_main("suite", "list", folder).out
    plan = make_plan()
    text = (
        plan.read_text().replace('suite = "berthdesk"', 'suite = "mine"').replace('demo"', 'demo", "--suite", "mine"')
    )
    plan.write_text(text)
    assert run_cli("qualify", plan, cwd=tmp_path).code == 0
    assert [t["exercise"] for t in run_main("trials", tmp_path / "record.db", "--json").json["trials"]] == ["quay-fee"]


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("new", "Bad Name"), "is not a name for a suite"),
        (("new", "."), "is not a name"),
        (("add", "ballad", "x"), "holds no suite.toml"),
        (("list", "nowhere"), "there is no suite"),
        (("list", "--power", "--samples", "0"), "samples of 1 or more"),
    ],
)
def test_a_wrong_word_to_the_suite_command_is_one_line(run_cli, tmp_path, words, said):
    done = run_cli("suite", *words, cwd=tmp_path)
    assert (done.code, said in done.err, done.err.count("\n")) == (2, True, 1), done.err


def test_a_plan_may_ask_for_a_seed_and_a_selection_and_a_record_keeps_them_apart(
    tmp_path, run_cli, run_main, make_plan
):
    folder = tmp_path / "mine"
    write_exercise(folder / "quay-toll", VARYING | {"selection": "short"}, FILES)
    (folder / "suite.toml").write_text(tomli_w.dumps({"title": "t", "description": "d"}))
    plan = make_plan(head='suite_seed = 3\nselection = "short"')
    text = plan.read_text().replace('suite = "berthdesk"', 'suite = "mine"')
    plan.write_text(text.replace('demo"', 'demo", "--suite", "mine"'))
    assert run_cli("qualify", plan, cwd=tmp_path).code == 0
    assert "mine, seed 3, short selection" in run_main("compare", tmp_path / "record.db").out
    sent = run_main("trials", tmp_path / "record.db", "--open", 1, "--json").json["trial"]["attempts"][0]["exchange"]
    assert load_exercise(CHECKS, folder / "quay-toll", 3).prompt.strip() in sent["messages"][-1]["content"]
    plan.write_text(plan.read_text().replace("suite_seed = 3", "suite_seed = 4"))
    again = run_cli("qualify", plan, cwd=tmp_path)
    assert (again.code, "another state of the suite" in again.err) == (2, True), again.err


def test_the_built_in_variants_are_sound():
    suite = load_suite(CHECKS, find_suite("berthdesk", Path()), seed=2)
    varying = [exercise for exercise in suite.exercises if exercise.is_variant]
    assert len(varying) >= 40
    varying = varying[1::4]  # a quarter on this seed, others on the first: `vet` by hand takes three of all
    assert {exercise.id: vet_exercise(exercise, grader()).faults for exercise in varying} == {
        exercise.id: () for exercise in varying
    }


def test_the_built_in_suite_is_as_wide_as_it_says():
    exercises = load_suite(CHECKS, find_suite("berthdesk", Path())).exercises
    kinds, languages = (Counter(getattr(e.spec, name) for e in exercises) for name in ("kind", "language"))
    least = {
        "write": 24,
        "steps": 8,
        "repair": 10,
        "extend": 8,
        "continue": 6,
        "infill": 6,
        "data": 6,
        "speed": 4,
        "explain": 4,
        "files": 4,
        "page": 8,
        "tests": 6,
        "refer": 8,
        "review": 6,
        "refactor": 5,
    }
    assert all(kinds[kind] >= count for kind, count in least.items()), kinds
    assert all(languages[name] >= 2 for name in (*LANGUAGES.programs, "any")), languages
    assert sum(e.spec.voice != "description" for e in exercises) * 3 > len(exercises)
    assert sum(e.spec.difficulty >= 4 for e in exercises) >= 40
    by_difficulty = [[e for e in exercises if e.spec.difficulty == difficulty] for difficulty in range(1, 6)]
    for counted in (lambda e: len(e.spec.claim), lambda e: sum(len(turn.prompt.split()) for turn in e.turns)):
        medians = [statistics.median(map(counted, mine)) for mine in by_difficulty]
        assert medians == sorted(set(medians)), medians
    short = [e for e in exercises if e.spec.selection == "short"]
    assert {e.spec.language for e in short} == set(languages) and {e.spec.kind for e in short} == set(kinds)
    power = {row.selection: row for row in suite_power(exercises, samples=1, tokens_per_s=30).selections}
    needs = {row.drop: row for row in suite_power(exercises, samples=1, tokens_per_s=30).drops}
    # a variant is worth half an exercise more at the most, whatever the number of seeds
    assert needs[0.1].seeds == 1 and needs[0.05].seeds is None and needs[0.05].seconds is None
    assert power["short"].work_share < 0.105 and 0.2 <= power["screen"].work_share <= 0.4
    script = Path(__file__).parents[2] / "scripts" / "suite_table.py"
    assert subprocess.run([sys.executable, script, "--check"], check=False).returncode == 0, (
        "run scripts/suite_table.py"
    )


def test_a_decoy_may_be_a_diff_against_the_answer_to_its_turn_and_must_fit_exactly(tmp_path):
    diff = '--- answer.py\n+++ answer.py\n@@ -4 +4 @@\n-    return ["Teal", n * 5]\n+    return ["Teal", 5]\n'
    files = {name: text for name, text in PLAIN.items() if name != "decoys/flat/answer.py"}
    exercise = write_exercise(tmp_path / "toll", FIXED, files | {"decoys/flat.diff": diff})
    assert exercise.decoys["flat"] == {"answer.py": PLAIN["answer/answer.py"].replace("n * 5", "5")}
    assert vet_exercise(exercise, grader()).faults == ()
    for broken in (
        diff.replace("n * 5", "n * 6"),
        diff.replace("    return", "  return"),
        diff.replace("answer.py", "x.py"),
    ):
        with pytest.raises(InputError, match=r"flat\.diff.*diff -u"):
            write_exercise(tmp_path / "toll", FIXED, files | {"decoys/flat.diff": broken})


def test_a_plan_weighs_several_suites_and_two_seeds_side_by_side_show_memorised_answers(
    tmp_path, run_cli, run_main, make_plan
):
    for number in range(6):
        write_exercise(tmp_path / "mine" / f"quay-toll-{number}", VARYING | {"difficulty": 1}, FILES)
    (tmp_path / "mine" / "suite.toml").write_text(tomli_w.dumps({"title": "t", "description": "d"}))
    suites = '[[suite]]\nname = "mine"\nweight = 3\n[[suite]]\nname = "mine"\nseed = 3\n'
    plan = make_plan(model="marram-1.2b", head=suites, tables={"grading": "samples = 2\nconcurrent_trials = 6"})
    text = plan.read_text().replace('suite = "berthdesk"\n', "")
    plan.write_text(text.replace('demo"', 'demo", "--suite", "mine", "--suite", "mine:3", "--memorised"'))
    assert run_cli("qualify", plan, cwd=tmp_path).code == 0
    found = run_main("compare", tmp_path / "record.db", "--json").json["candidates"][0]
    first, other = found["suites"]
    assert (first["suite"], other["suite"], first["trials"], other["solved"]) == ("mine", "mine, seed 3", 12, 0)
    assert first["solved"] >= 9  # a strong model at an easy task
    assert found["pass_rate"]["value"] == pytest.approx(0.75 * first["pass_rate"]["value"])
    (gap,) = found["seed_gaps"]
    assert gap["exercises"] == 6 and gap["difference"] == pytest.approx(first["pass_rate"]["value"]) and gap["p"] < 0.1
    shown = run_main("compare", tmp_path / "record.db", "--wide").out
    assert "mine + mine, seed 3" in shown and "sign of memorised answers" in shown
    assert run_main("trials", tmp_path / "record.db", "--json").json["trials"][0]["exercise"].startswith("mine/")


@pytest.mark.parametrize(
    ("suites", "said"),
    [
        ('[[suite]]\nname = "berthdesk"\n[[suite]]\nname = "berthdesk"\n', "two suites are called berthdesk"),
        ('[[suite]]\nname = "berthdesk"\nweight = 0\n', "weight of berthdesk is 0"),
        ('[[suite]]\nname = "berthdesk"\nweigth = 2\n', 'Did you mean "weight"?'),
        ('suite_seed = 3\n[[suite]]\nname = "berthdesk"\n', "stand beside [[suite]] tables"),
        ("suite = []\n", "there is no suite"),
    ],
)
def test_suites_written_wrong_are_one_line(tmp_path, run_cli, make_plan, suites, said):
    plan = make_plan(head=suites)
    plan.write_text(plan.read_text().replace('suite = "berthdesk"\n', ""))
    done = run_cli("qualify", plan, cwd=tmp_path)
    assert (done.code, said in done.err, done.err.count("\n")) == (2, True, 1), done.err
