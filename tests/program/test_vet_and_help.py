"""Vetting through the program, and the program's own face."""

import json
import shutil
import subprocess
import sys
from pathlib import Path

import jsonschema
import pytest

from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.suite.loader import find_suite, load_suite

PAGES = ("deck-plan", "tide-chart")  # besides the first one: a pointer, a canvas
NAMES = ("berthdesk", "firstlight", "berthdesk-tickets")
BUILT_IN, FIRST_LIGHT, TICKETS = (find_suite(name, Path()) for name in NAMES)


@pytest.fixture
def broken(tmp_path):
    """A suite of three exercises: one sound, one with a wrong answer, one with a toothless check."""
    folder = tmp_path / "broken"
    for name in ("berth-clashes", "fare-quote", "drift-set"):
        shutil.copytree(BUILT_IN / name, folder / name)
    shutil.copy(BUILT_IN / "suite.toml", folder)
    wrong = folder / "fare-quote" / "cases.json"
    wrong.write_text(wrong.read_text().replace('"expect": 560', '"expect": 565'))
    empty = {"args": [[]], "expect": [17, 4, 0], "by_hand": True}
    (folder / "drift-set" / "cases.json").write_text(json.dumps([empty] * 3))
    return folder


@pytest.mark.timeout(900)
def test_the_built_in_suites_are_sound(run_cli, tmp_path):
    # a part of each here, of every kind and every language: all of them by `kettlefield vet` before a lock is written,
    # and no file changes under a lock
    folders = sorted(path.parent for path in FIRST_LIGHT.glob("*/exercise.toml"))[::8]
    seen = set()
    # those with the fewest wrong answers: each is built and run
    for exercise in sorted(load_suite(CHECKS, BUILT_IN).exercises, key=lambda one: len(one.spec.decoy)):
        spec = exercise.spec
        if not {spec.kind, spec.language} <= seen or exercise.id in PAGES:
            seen |= {spec.kind, spec.language}
            folders.append(BUILT_IN / exercise.id)
    for folder in folders:
        shutil.copytree(folder, tmp_path / "parts" / folder.name)
    shutil.copy(BUILT_IN / "suite.toml", tmp_path / "parts")
    shutil.copytree(BUILT_IN / "texts", tmp_path / "parts" / "texts")
    for name in ("rest-between-duties", "closure-notices", "dunlin-moves", "gauge-crash", "workspaces"):
        shutil.copytree(TICKETS / name, tmp_path / "parts" / name)
    done = run_cli("vet", tmp_path / "parts", "--json", "--seeds", "1", within_s=850)  # a busy machine takes its time
    schema = Path(__file__).parents[2] / "docs" / "reference" / "schemas" / "vet.schema.json"
    jsonschema.Draft202012Validator(json.loads(schema.read_text())).validate(done.json)
    assert done.code == 0, [entry for entry in done.json["exercises"] if not entry["ok"]]
    assert done.json["ok"] is True and done.json["digest"].startswith("sha256:")
    assert all(entry["ok"] and entry["faults"] == [] for entry in done.json["exercises"])
    assert {"id", "kind", "language"} <= done.json["exercises"][0].keys()


def test_a_broken_suite_is_told_by_exercise_and_fault(run_cli, broken):
    done = run_cli("vet", broken, "--json")
    faults = {entry["id"]: entry["faults"] for entry in done.json["exercises"]}
    assert (done.code, done.json["ok"]) == (1, False)
    assert faults["berth-clashes"] == []
    assert "its own answer ends wrong-answer" in faults["fare-quote"][0]
    assert 'decoy "swap-forgotten" ends passed' in " ".join(faults["drift-set"])
    shown = run_cli("vet", broken).out
    assert "1 of 3 exercises sound, 2 with faults" in shown


def test_vet_locks_only_a_sound_suite(run_cli, broken):
    assert run_cli("vet", broken, "--lock").code == 1
    assert not (broken / "suite.lock").exists()
    for name in ("fare-quote", "drift-set"):
        shutil.rmtree(broken / name)
    done = run_cli("vet", broken, "--lock")
    assert done.code == 0, done.out
    prompt = broken / "berth-clashes" / "prompt.md"
    prompt.write_text(prompt.read_text() + "Hurry.\n")
    done = run_cli("vet", broken)
    assert (done.code, "berth-clashes was changed since the suite was locked" in done.err) == (2, True)


def test_help_loads_nothing_heavy():
    code = (
        "import sys\nfrom kettlefield.cli.parsing import build_parser\nbuild_parser(['--help'])\n"
        "print([name for name in ('numpy', 'scipy', 'pandas', 'aiohttp', 'sqlalchemy', 'rich', 'msgspec') if name in sys.modules])"
    )
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout == "[]\n"
