"""An exercise made of one's own repository: a commit with its tests, or a function whose body is taken out.

Nothing of the repository is run outside the isolation, and git is only asked for objects: neither attributes, hooks
nor settings of the repository take part.
"""

import ast
import fnmatch
import json
import os
import re
import subprocess
from collections.abc import Iterator, Mapping
from pathlib import Path, PurePosixPath
from typing import Any

import msgspec
import tomli_w

from kettlefield.core.errors import InputError
from kettlefield.core.extraction.file_diffs import diff_of
from kettlefield.core.outcome import escape_signs
from kettlefield.core.plaintext import last_lines, shorten, visible
from kettlefield.grading.command_run import run_command
from kettlefield.languages.all_languages import LANGUAGES
from kettlefield.sandbox.job import RunLimits, RunReport
from kettlefield.sandbox.runner import Sandbox
from kettlefield.suite.skeleton import TO_WRITE, check_new_exercise, write_files
from kettlefield.suite.workspace_files import MOST_BYTES, MOST_FILES, OVERLAY

GIT_WITHIN_S = 60.0
LIMITS = RunLimits(wall_s=120, cpu_s=120, memory_bytes=2 * 2**30, output_bytes=4 * 2**20)
RUNS = 2  # of each state: tests that hang on time or order show it
MOST_DECOYS = 4
_TESTS = (
    *("test_*.py", "*_test.py", "conftest.py", "*_test.go", "*.test.js", "*.spec.js", "*.test.mjs", "*.test.ts"),
    *("*.spec.ts", "*Test.java", "*_spec.rb", "*_test.rb", "*Test.php"),
)
_TEST_FOLDERS = frozenset({"test", "tests", "spec", "__tests__"})
_USUAL = (  # a file that tells how the tests are run, and the command
    ("go.mod", "HOME=/tmp {go} test ./..."),
    ("package.json", "{javascript} --test"),
    ("*.py", "{python} -m unittest"),
)
_KEY_NAMES = ("*.pem", "*.key", "*.p12", "*.pfx", "*.keystore", "id_rsa*", "id_ed25519*", "*.env", "credentials*")
_KEY_TEXT = re.compile(r"-----BEGIN [A-Z ]{0,30}PRIVATE KEY-----|\bAKIA[0-9A-Z]{16}\b")


class Source(msgspec.Struct, frozen=True, kw_only=True):
    """Where an exercise comes from."""

    repository: Path
    commit: str
    tests: str | None = None  # the command that runs the tests; none: as such a repository usually has it
    function: str | None = None  # FILE:NAME, whose body is taken out; none: the commit's own change is the task


class Made(msgspec.Struct, frozen=True, kw_only=True):
    """An exercise that was written."""

    folder: Path
    decoys: int
    left_out: tuple[str, ...]  # files that are no plain text, or hidden


class _Task(msgspec.Struct, frozen=True, kw_only=True):
    before: dict[str, str]
    after: dict[str, str]
    hidden: dict[str, str]
    message: str
    left_out: tuple[str, ...]


def exercise_from_repository(suite: Path, name: str, source: Source, sandbox: Sandbox) -> Made:
    """Write an exercise in a workspace, when its tests fail before the change and pass after it, twice each.

    Parameters
    ----------
    suite : Path
        The suite's folder.
    name : str
        The exercise's id.
    source : Source
        Repository, commit, and how the tests are run.
    sandbox : Sandbox
        Where they are run.

    Raises
    ------
    InputError
        It cannot be made of this: the reason is named.
    """
    folder = check_new_exercise(suite, name)
    task = _of_function(source) if source.function is not None else _of_commit(source)
    tests = source.tests or _usual_tests(task.after)
    _try(task.after | task.hidden, tests, sandbox, should_pass=True)
    _try(task.before | task.hidden, tests, sandbox, should_pass=False)
    decoys = list(_decoys(task, tests, sandbox))
    changed = sorted(n for n in {*task.before, *task.after} if task.before.get(n) != task.after.get(n))
    main = next((n for n in changed if n in task.after), changed[0])
    write_files(folder, _files(task, tests, main, decoys))
    return Made(folder=folder, decoys=len(decoys), left_out=task.left_out)


def _files(task: _Task, tests: str, main: str, decoys: list[tuple[str, str, str]]) -> dict[str, str]:
    spec: dict[str, Any] = {
        "title": shorten(task.message.split("\n", 1)[0], 60) or TO_WRITE,
        "kind": "workspace",
        "language": LANGUAGES.of_suffix(main) or "python",
        "file": main,
        "difficulty": 3,
        "topics": ["own repository"],
        "tests": TO_WRITE,
        "voice": "ticket",
        "limits": {"wall": "120 s", "cpu": "120 s", "memory": "2 GiB"},
        "workspace": {"commands": {"tests": tests}},
        "check": [{"kind": "command", "name": "hidden tests", "cases": "cases.json", "hidden": "hidden"}],
        "decoy": [{"name": name, "outcome": "wrong-answer", "mistake": mistake} for name, mistake, _ in decoys],
    }
    prompt = f"{TO_WRITE}: the ticket, so that everything that the hidden tests want is said. The commit's message was:"
    return {
        "exercise.toml": tomli_w.dumps(spec),
        "prompt.md": f"{prompt}\n\n{task.message.strip()}\n",
        "cases.json": json.dumps([{"run": tests, "exit": 0, "by_hand": True}], indent=1) + "\n",
        "answer.diff": diff_of(task.before, task.after),
        **{f"{OVERLAY}/{name}": text for name, text in task.before.items()},
        **{f"hidden/{name}": text for name, text in task.hidden.items()},
        **{f"decoys/{name}.diff": diff for name, _, diff in decoys},
    }


def _of_commit(source: Source) -> _Task:
    """The state before a commit, its change without the tests, and its tests."""
    commit = _git(source, "rev-parse", "--verify", "--end-of-options", f"{source.commit}^{{commit}}").strip()
    parents = _git(source, "rev-list", "--parents", "-n", "1", commit).split()[1:]
    if not parents:
        raise InputError("has no commit before it", f"--commit {source.commit}", "Choose a later one.")
    before, _ = _tree(source, parents[0])
    after, left_out = _tree(source, commit)
    changed = [name for name in {*before, *after} if before.get(name) != after.get(name)]
    hidden = {name: after[name] for name in changed if is_test(name) and name in after}
    if not hidden:
        raise InputError("changes no tests", f"--commit {source.commit}", "Choose a commit that brings its tests.")
    if all(is_test(name) for name in changed):
        raise InputError("changes nothing but tests", f"--commit {source.commit}", "Choose one that changes code too.")
    # tests that the commit changes are not shown: neither as they were nor as they are
    shown = {name: text for name, text in after.items() if not (is_test(name) and name in changed)}
    start = {name: text for name, text in before.items() if not (is_test(name) and name in changed)}
    message = _git(source, "log", "-n", "1", "--no-show-signature", "--format=%B", commit)
    return _Task(before=start, after=shown, hidden=hidden, message=message, left_out=left_out)


def _of_function(source: Source) -> _Task:
    """A state with one function's body taken out; the tests that name the function are not shown."""
    file, _, name = (source.function or "").partition(":")
    where = f"--function {source.function}"
    if not name or not file.endswith(".py"):
        raise InputError("is not FILE.py:NAME", where, "Only functions of Python files can be taken out.")
    files, left_out = _tree(source, source.commit)
    if file not in files:
        raise InputError("names a file that the commit does not hold", where, "Write its path from the root.")
    blank = _without_body(files[file], name, where)
    hidden = {
        path: text for path, text in files.items() if is_test(path) and re.search(rf"\b{re.escape(name)}\b", text)
    }
    if not hidden:
        raise InputError("is named by no test", where, "Choose one that tests cover.")
    after = {path: text for path, text in files.items() if path not in hidden}
    message = f"Write the body of `{name}` in `{file}`."
    return _Task(before={**after, file: blank}, after=after, hidden=hidden, message=message, left_out=left_out)


def _without_body(text: str, name: str, where: str) -> str:
    """A file with one function's body, its docstring aside, in the form of an error."""
    try:
        found = [
            node
            for node in ast.walk(ast.parse(text))
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef) and node.name == name
        ]
    except (SyntaxError, ValueError, RecursionError) as err:
        raise InputError(f"is in a file that cannot be parsed ({err})", where, "Choose another.") from err
    if len(found) != 1:
        raise InputError(f"is defined {len(found)} times in its file", where, "Choose one that is there once.")
    body = found[0].body
    is_docstring = isinstance(body[0], ast.Expr) and isinstance(body[0].value, ast.Constant)
    rest = body[1:] if is_docstring else body
    if not rest or rest[0].lineno <= found[0].lineno:
        raise InputError("has no body of its own lines", where, "Choose another.")
    lines = text.splitlines(keepends=True)
    last = rest[-1].end_lineno or rest[-1].lineno
    indent = " " * rest[0].col_offset
    return "".join([*lines[: rest[0].lineno - 1], f"{indent}raise NotImplementedError\n", *lines[last:]])


def is_test(path: str) -> bool:
    """Whether a file is one of tests, by its name or a folder that it lies in."""
    name = PurePosixPath(path)
    return bool(_TEST_FOLDERS & set(name.parts[:-1])) or any(fnmatch.fnmatchcase(name.name, one) for one in _TESTS)


def _usual_tests(files: Mapping[str, str]) -> str:
    for pattern, command in _USUAL:
        if any(fnmatch.fnmatchcase(name.rpartition("/")[2], pattern) for name in files):
            return command
    raise InputError("is not said", "--tests", 'Write the command that runs the tests, such as "{ruby} test/all.rb".')


def _try(files: Mapping[str, str], tests: str, sandbox: Sandbox, *, should_pass: bool) -> None:
    """Run the tests twice; refuse what ends otherwise than it should, or once so and once so."""
    reports = [run_command(tests, files, LIMITS, sandbox, joined=True).report for _ in range(RUNS)]
    passed = [report.exit_status == 0 for report in reports]
    if all(one is should_pass for one in passed):
        return
    if len(set(passed)) > 1:
        raise InputError("pass once and fail once", f"--tests {tests}", "They hang on time, chance or order.")
    if not should_pass:
        raise InputError("pass before the change too", f"--tests {tests}", "They do not show what was changed.")
    raise InputError(f"fail after the change: {_why(reports[0])}", f"--tests {tests}", _remedy(reports[0]))


def _why(report: RunReport) -> str:
    if report.timed_out:
        return f"they do not end within {LIMITS.wall_s:g} s"
    if report.over_limit is not None:
        return f"they take {report.over_limit}"
    said = last_lines(report.stdout.decode("utf-8", errors="replace"), 3)
    return shorten(visible(" / ".join(said.split("\n")), keep_lines=False), 300) or f"exit status {report.exit_status}"


def _remedy(report: RunReport) -> str:
    said = report.stdout.decode("utf-8", errors="replace")
    signs = escape_signs(said)
    if "network" in signs:
        return "They ask for the network or a service, which the isolation has not: choose another commit."
    if re.search(r"No module named|Cannot find module|cannot find package", said):
        return "A package is missing: only what is installed with the language is there."
    return "In the isolation there are the files of the commit and the languages, nothing else."


def _decoys(task: _Task, tests: str, sandbox: Sandbox) -> Iterator[tuple[str, str, str]]:
    """The state before, and the change without one file or one piece of it, as far as the tests see it."""
    yield "nothing-done", "Nothing of the change is made.", diff_of(task.after, task.before)
    changed = sorted(n for n in {*task.before, *task.after} if task.before.get(n) != task.after.get(n))
    made = 0
    for name in changed if len(changed) > 1 else ():
        files = {**task.after, **({name: task.before[name]} if name in task.before else {})}
        if name not in task.before:
            del files[name]
        report = run_command(tests, files | task.hidden, LIMITS, sandbox, joined=True).report
        if report.exit_status != 0 and not report.timed_out and made < MOST_DECOYS:
            made += 1
            yield f"without-file-{made}", f"The change of {name} is missing.", diff_of(task.after, files)
    for name in changed:
        for files in _without_pieces(task, name):
            if made >= MOST_DECOYS:
                return
            report = run_command(tests, files | task.hidden, LIMITS, sandbox, joined=True).report
            if report.exit_status != 0 and not report.timed_out:
                made += 1
                yield (
                    f"without-piece-{made}",
                    f"A piece of the change of {name} is missing.",
                    diff_of(task.after, files),
                )


def _without_pieces(task: _Task, name: str) -> Iterator[dict[str, str]]:
    """The changed files with one changed line, or one statement of a new piece, taken back."""
    if name not in task.after:
        return
    new = task.after[name].splitlines(keepends=True)
    old = set(task.before.get(name, "").splitlines(keepends=True))
    for at, line in enumerate(new):
        if line not in old and line.strip() and not line.strip().startswith(("#", "//", "import ", "from ", '"""')):
            yield {**task.after, name: "".join([*new[:at], *new[at + 1 :]])}


def _tree(source: Source, commit: str) -> tuple[dict[str, str], tuple[str, ...]]:
    """The plain text files of a commit, and the names of those that are left out.

    Raises
    ------
    InputError
        It holds links, submodules, keys, or too much.
    """
    listed = _git(source, "ls-tree", "-r", "-z", "-l", "--full-tree", "--end-of-options", commit)
    files: dict[str, str] = {}
    left_out: list[str] = []
    total = 0
    for entry in filter(None, listed.split("\0")):
        head, _, path = entry.partition("\t")
        mode, kind, blob, size = head.split()
        where = f"{commit[:12]}:{visible(path, keep_lines=False)}"
        if kind != "blob" or mode == "120000":
            raise InputError("is a link or a submodule", where, "A workspace holds plain files only.")
        if any(fnmatch.fnmatchcase(path.rpartition("/")[2], pattern) for pattern in _KEY_NAMES):
            raise InputError("looks like a key", where, "Take it out of the repository first: nothing was copied.")
        if any(part.startswith(".") or part == "__pycache__" for part in path.split("/")) or not path.isprintable():
            left_out.append(path)
            continue
        total += int(size)
        if total > MOST_BYTES or len(files) >= MOST_FILES:
            hint = f"At most {MOST_FILES} files with {MOST_BYTES // 2**20} MiB together."
            raise InputError("holds too much for a workspace", commit[:12], hint)
        try:
            text = _git_bytes(source, "cat-file", "blob", blob).decode("utf-8")
        except UnicodeDecodeError:
            left_out.append(path)
            continue
        if _KEY_TEXT.search(text):
            raise InputError("holds what looks like a key", where, "Take it out first: nothing was copied.")
        if "\0" not in text:
            files[path] = text
        else:
            left_out.append(path)
    return files, tuple(left_out)


def _git(source: Source, *words: str) -> str:
    return _git_bytes(source, *words).decode("utf-8", errors="replace")


def _git_bytes(source: Source, *words: str) -> bytes:
    """What git says of the repository's objects.

    Raises
    ------
    InputError
        There is no git, no repository or no such object.
    """
    environment = {
        "PATH": os.environ.get("PATH", ""),
        "GIT_CONFIG_NOSYSTEM": "1",
        "GIT_CONFIG_GLOBAL": os.devnull,
        "GIT_OPTIONAL_LOCKS": "0",
        "GIT_NO_REPLACE_OBJECTS": "1",
        "LC_ALL": "C.UTF-8",
    }
    # a repository may belong to somebody else, and nothing of it is run
    options = ("-c", f"safe.directory={source.repository.resolve()}", "-c", "core.fsmonitor=false", "--no-pager")
    try:
        done = subprocess.run(
            ["git", *options, "-C", str(source.repository), *words],
            capture_output=True,
            env=environment,
            timeout=GIT_WITHIN_S,
            check=False,
        )
    except (OSError, subprocess.TimeoutExpired) as err:
        raise InputError(f"cannot be read ({err})", f"--from {source.repository}", "Install git, check it.") from err
    if done.returncode != 0:
        said = shorten(visible(done.stderr.decode(errors="replace").strip(), keep_lines=False), 200)
        raise InputError(f"cannot be read: {said}", f"--from {source.repository}", "Check repository and commit.")
    return done.stdout
