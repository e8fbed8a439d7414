"""Tickets made of one's own repository: a commit with its tests, a function whose body is taken out."""

import subprocess
from types import SimpleNamespace

import pytest
from exercises import grader

from kettlefield.grading import from_repository
from kettlefield.grading.checks.all_checks import CHECKS
from kettlefield.grading.vetting import vet_exercise
from kettlefield.suite.loader import load_exercise
from kettlefield.suite.skeleton import TO_WRITE, new_suite


def commit(repository, message, **files):
    """Write files into a repository and commit them; its id."""
    for name, text in files.items():
        path = repository / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_bytes(text) if isinstance(text, bytes) else path.write_text(text)
    git = [
        "git",
        "-C",
        str(repository),
        "-c",
        "user.name=A",
        "-c",
        "user.email=a@example.org",
        "-c",
        "core.fsmonitor=",
    ]
    for words in (["add", "-A"], ["commit", "-q", "-m", message], ["rev-parse", "HEAD"]):
        done = subprocess.run([*git, *words], capture_output=True, text=True, check=True)
    return done.stdout.strip()


FEE = 'def fee(minutes):\n    """Pence for a stay."""\n    return minutes * 2\n'
FEE_AFTER = 'MOST = 900\n\n\ndef fee(minutes):\n    """Pence for a stay."""\n    return min(MOST, minutes * 2)\n'
FEE_TEST = "import unittest\nfrom fees import fee\n\n\nclass Fees(unittest.TestCase):\n    def test_plain(self):\n        self.assertEqual(fee({}), {})\n"


@pytest.fixture
def repository(tmp_path):
    """A repository whose second commit changes code and its tests."""
    folder = tmp_path / "repo"
    subprocess.run(["git", "init", "-q", str(folder)], check=True)
    first = {
        "fees.py": FEE,
        "test_fees.py": FEE_TEST.format(10, 20),
        "logo.png": b"\x89PNG\xff",
        "README.md": "Fees.\n",
    }
    commit(folder, "first", **first)
    commit(folder, "A largest fee", **{"fees.py": FEE_AFTER, "test_fees.py": FEE_TEST.format(1000, 900)})
    # what the repository says of itself does nothing: hooks, attributes, and programs that its settings name
    (folder / ".git" / "config").write_text(
        (folder / ".git" / "config").read_text() + '[core]\n\tfsmonitor = "touch ../stolen"\n'
    )
    return folder


def test_a_ticket_of_ones_own_repository(repository, tmp_path, run_main):
    suite = new_suite(tmp_path / "mine").parent
    made = run_main("suite", "add", "workspace", "largest", "--in", suite, "--from", repository, "--commit", "HEAD")
    assert made.code == 0, made.err
    assert "left out, since hidden or no text: logo.png" in made.out
    assert not (tmp_path / "stolen").exists()
    exercise = load_exercise(CHECKS, suite / "largest")
    assert set(exercise.workspace) == {"fees.py", "README.md"}  # its tests are hidden, and nothing of .git is there
    assert "900" not in "".join(exercise.workspace.values())
    assert exercise.answer["fees.py"] == FEE_AFTER
    assert len(exercise.decoys) >= 2
    assert "still to be written" in vet_exercise(exercise, grader()).faults[0]
    for name in ("prompt.md", "exercise.toml"):
        path = suite / "largest" / name
        path.write_text(path.read_text().replace(TO_WRITE, "A fee is at most 900 pence"))
    assert vet_exercise(load_exercise(CHECKS, suite / "largest"), grader()).faults == ()
    words = ("suite", "add", "workspace", "body", "--in", suite, "--from", repository, "--commit", "HEAD")
    assert run_main(*words, "--function", "fees.py:fee").code == 0
    body = load_exercise(CHECKS, suite / "body")
    assert body.workspace["fees.py"] == FEE_AFTER.replace("return min(MOST, minutes * 2)", "raise NotImplementedError")


def test_what_cannot_become_a_ticket_is_refused_with_the_reason(repository, tmp_path, run_main):
    suite = new_suite(tmp_path / "mine").parent

    def refused(*words, commit_id="HEAD"):
        all_words = ("suite", "add", "workspace", "no", "--in", suite, "--from", repository, f"--commit={commit_id}")
        done = run_main(*all_words, *words)
        assert done.code == 2
        assert not (suite / "no").exists()
        return done.err

    assert "has no commit before it" in refused(commit_id="HEAD~1")
    assert "cannot be read" in refused(commit_id="nonsense")
    assert "cannot be read" in refused(commit_id="--output=stolen")
    assert "pass before the change too" in refused("--tests", "true")
    assert "No module named 'zzz'" in refused("--tests", "{python} -c 'import zzz'")
    network = "{python} -c 'import urllib.request as u; u.urlopen(\"http://example.org\")'"
    assert "ask for the network" in refused("--tests", network)
    assert "is not FILE.py:NAME" in refused("--function", "fees.js:fee")
    assert "is defined 0 times" in refused("--function", "fees.py:toll")
    assert "changes no tests" in refused(commit_id=commit(repository, "words", **{"README.md": "All fees.\n"}))
    only = commit(repository, "tests", **{"test_fees.py": FEE_TEST.format(2, 4)})
    assert "nothing but tests" in refused(commit_id=only)
    key = "-----BEGIN PRIVATE " + "KEY-----\n"
    assert "looks like a key" in refused(commit_id=commit(repository, "a key", **{"notes.txt": key}))
    (repository / "notes.txt").unlink()
    commit(repository, "no key")
    (repository / "etc").symlink_to("/etc")
    assert "is a link or a submodule" in refused(commit_id=commit(repository, "a link"))
    assert "need kind workspace" in run_main("suite", "add", "write", "no", "--in", suite, "--commit", "HEAD").err


def test_tests_that_hang_on_chance_are_refused(repository, tmp_path, run_main, monkeypatch):
    suite = new_suite(tmp_path / "mine").parent
    statuses = iter((0, 1))
    monkeypatch.setattr(
        from_repository,
        "run_command",
        lambda *_, **__: SimpleNamespace(report=SimpleNamespace(exit_status=next(statuses))),
    )
    done = run_main("suite", "add", "workspace", "no", "--in", suite, "--from", repository, "--commit", "HEAD")
    assert (done.code, "pass once and fail once" in done.err) == (2, True)
