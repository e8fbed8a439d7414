"""Suites: what is refused, and with which words; the lock."""

import json
import re
import shutil
from pathlib import Path

import pytest

from kettlefield.core.errors import InputError
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.plan.criteria import terms_of_text
from kettlefield.suite.loader import find_suite, load_suite, read_suite, write_lock

BUILT_IN = find_suite("berthdesk", Path())


@pytest.fixture
def suite(tmp_path):
    """A suite with one exercise of the built-in one, unlocked."""
    folder = tmp_path / "mine"
    shutil.copytree(BUILT_IN / "fare-quote", folder / "fare-quote")
    shutil.copy(BUILT_IN / "suite.toml", folder)
    return folder


def edit(path, before, after):
    text = path.read_text()
    assert before in text
    path.write_text(text.replace(before, after))


def test_the_built_in_suite_loads_and_agrees_with_its_lock():
    suite = load_suite(CHECKS, BUILT_IN)
    assert len(suite.exercises) >= 12
    assert {exercise.spec.language for exercise in suite.exercises} >= {"python", "javascript"}
    assert all(len(exercise.decoys) >= 2 for exercise in suite.exercises)


@pytest.mark.parametrize(
    ("before", "after", "place", "words"),
    [
        ("difficulty = 3", "dificulty = 3", "exercise.toml", 'unknown key "dificulty"'),
        ("difficulty = 3", 'difficulty = "hard"', "[difficulty]", "expected `int`"),
        ("difficulty = 3", "difficulty = 9", "[difficulty]", "is 9"),
        ('language = "python"', 'language = "fortran"', "[language]", "fortran"),
        ('file = "answer.py"', 'file = "../answer.py"', "[file]", "leaves the exercise's folder"),
        ('kind = "calls"', 'kind = "guess"', "[check 1]", "guess"),
        ("cases.json", "absent.json", "absent.json", "no such file"),
        ('outcome = "wrong-answer"', 'outcome = "bad"', "[decoy 1] outcome", "bad"),
        ("difficulty = 3", 'difficulty = 3\nlimits = { wall = "5" }', "[limits] wall", "90 s"),
        ("difficulty = 3", "difficulty = ", "exercise.toml", "not valid TOML"),
    ],
)
def test_a_fault_in_an_exercise_names_file_and_key(suite, before, after, place, words):
    edit(suite / "fare-quote" / "exercise.toml", before, after)
    with pytest.raises(InputError) as caught:
        load_suite(CHECKS, suite)
    assert place in caught.value.where
    assert words in f"{caught.value.what} {caught.value.hint}"


@pytest.mark.parametrize("cases", ["[]", "{}", "[{}]", '[{"args": 3, "expect": 1}]', "[" * 100_000, "[1"])
def test_faulty_cases_are_refused(suite, cases):
    (suite / "fare-quote" / "cases.json").write_text(cases)
    with pytest.raises(InputError, match=r"cases\.json"):
        load_suite(CHECKS, suite)


def test_missing_parts_are_named(suite, tmp_path):
    (suite / "fare-quote" / "answer" / "answer.py").unlink()
    with pytest.raises(InputError, match=r"no answer\.py"):
        load_suite(CHECKS, suite)
    shutil.rmtree(suite / "fare-quote")
    with pytest.raises(InputError, match="no exercise"):
        load_suite(CHECKS, suite)
    with pytest.raises(InputError, match="berthdesk"):
        find_suite("berthdeck", tmp_path)


@pytest.mark.parametrize(
    "text",
    [
        "topics = " + "[" * 100_000,
        "x = " + "{y = " * 100_000,
        "x" + ".x" * 100_000 + " = 1",
        "[" + "x." * 100_000 + "x]",
    ],
    ids=["lists", "tables", "dotted", "header"],
)
def test_toml_that_is_nested_without_end_is_refused(suite, text):
    (suite / "fare-quote" / "exercise.toml").write_text(text)
    with pytest.raises(InputError, match="is not valid TOML") as refused:
        load_suite(CHECKS, suite)
    assert refused.value.where.endswith("exercise.toml")
    with pytest.raises(InputError, match="holds a plan that is not valid TOML"):
        terms_of_text(text, "record.db")


def test_a_suite_that_is_read_once_draws_what_reading_it_again_would(suite):
    shutil.copytree(BUILT_IN / "berth-clashes", suite / "berth-clashes")
    files = read_suite(CHECKS, suite)
    drawn = {seed: files.drawn(seed) for seed in (0, 3, 4, 3)}
    for seed, once in drawn.items():
        again = load_suite(CHECKS, suite, seed=seed)
        assert (once.digest, once.seed, once.exercises) == (again.digest, seed, again.exercises)
    assert len({one.digest for one in drawn.values()}) == len({str(one.exercises) for one in drawn.values()}) == 3
    shown = files.drawn(selection="all")
    assert (shown.digest, shown.exercises) == (drawn[0].digest, drawn[0].exercises)
    for name in ("fare-quote", "berth-clashes"):
        lines = (suite / name / "exercise.toml").read_text().splitlines(keepends=True)
        (suite / name / "exercise.toml").write_text("".join(line for line in lines if not line.startswith("selection")))
    with pytest.raises(InputError, match="has no short selection"):
        read_suite(CHECKS, suite).drawn(selection="short")


@pytest.mark.parametrize("changed", ["prompt.md", "cases.json", "answer/answer.py", "decoys/half-even.diff"])
def test_the_lock_names_what_was_tampered_with(suite, changed):
    write_lock(suite)
    first = load_suite(CHECKS, suite).digest
    path = suite / "fare-quote" / changed
    path.write_text(path.read_text() + "\n")
    with pytest.raises(InputError, match="fare-quote was changed"):
        load_suite(CHECKS, suite)
    assert load_suite(CHECKS, suite, check_lock=False).digest != first


def test_the_digest_is_of_contents_not_of_place(suite, tmp_path):
    shutil.copytree(suite, tmp_path / "elsewhere")
    (tmp_path / "elsewhere" / "fare-quote" / "__pycache__").mkdir()
    assert load_suite(CHECKS, suite).digest == load_suite(CHECKS, tmp_path / "elsewhere").digest


def test_a_link_in_a_suite_is_refused(suite):
    (suite / "fare-quote" / "extra").symlink_to("/etc/hostname")
    with pytest.raises(InputError, match="is a link"):
        load_suite(CHECKS, suite)


def test_every_case_file_of_the_built_in_suite_is_one_case_a_line():
    for path in BUILT_IN.glob("*/cases.json"):
        text = re.sub("@@[^@]*@@", "1", path.read_text())  # values of variants
        assert len(json.loads(text)) == len(path.read_text().splitlines()) - 2
