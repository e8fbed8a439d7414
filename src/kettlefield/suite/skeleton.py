"""The beginnings of a suite of one's own: a worked exercise to learn from, and skeletons of every kind."""

import json
import re
from pathlib import Path
from typing import Any

import tomli_w

from kettlefield.core.errors import InputError
from kettlefield.core.extraction.syntax import PAGE, TEXT
from kettlefield.languages.all_languages import LANGUAGES
from kettlefield.suite.format import CLOSING, GUIDANCE, KINDS, OPENING, TEXTS

_ID = re.compile(r"[a-z0-9]+(?:-[a-z0-9]+)*")
TO_WRITE = "TO BE WRITTEN"  # stands where a person must write; vetting finds what is left of it

_WORKED_PROMPT = """\
A boat that ties up at the visitors' quay pays by the time it stays. Write a Python function
`quay_fee(minutes)` that returns the fee in pence, a whole number.

- The first 30 minutes are free.
- After that every quarter of an hour that was begun costs 40 pence.
- The fee is never more than 900 pence.

Examples: `quay_fee(30)` is `0`, `quay_fee(31)` is `40`.
"""
_WORKED_ANSWER = """\
def quay_fee(minutes):
    quarters = (minutes - 30 + 14) // 15
    return min(900, max(0, quarters * 40))
"""
_WORKED_CASES = [
    {"args": [30], "expect": 0, "by_hand": True},
    {"args": [31], "expect": 40, "by_hand": True},
    {"args": [0], "expect": 0, "by_hand": True},
    {"args": [45], "expect": 40},
    {"args": [46], "expect": 80},
    {"args": [365], "expect": 900},
    {"args": [350], "expect": 880},
    {"args": [5000], "expect": 900},
]


def new_suite(folder: Path) -> Path:
    """Make a suite with one worked exercise; the exercise's folder.

    Raises
    ------
    InputError
        The folder already exists, its name is not an id, or it cannot be made.
    """
    _check_new(folder, "suite")
    exercise = folder / "quay-fee"
    spec: dict[str, Any] = {
        "title": "Fee at the visitors' quay",
        "kind": "write",
        "language": "python",
        "file": "answer.py",
        "difficulty": 1,
        "topics": ["fares", "rounding"],
        "tests": "A free span, rounding up to what was begun, a largest fee.",
        "entry": "quay_fee",
        "check": [{"kind": "calls", "name": "worked cases", "function": "quay_fee", "cases": "cases.json"}],
        "decoy": [
            {"name": "rounds-down", "outcome": "wrong-answer", "mistake": "Charges only quarters that are over."},
            {"name": "no-largest", "outcome": "wrong-answer", "mistake": "Forgets the largest fee."},
        ],
    }
    header = {"title": f"Exercises of {folder.name}", "description": "Say here what these exercises are about."}
    write_files(
        folder,
        {
            "suite.toml": tomli_w.dumps(header),
            "quay-fee/exercise.toml": tomli_w.dumps(spec),
            "quay-fee/prompt.md": _WORKED_PROMPT,
            "quay-fee/cases.json": _cases_text(_WORKED_CASES),
            "quay-fee/answer/answer.py": _WORKED_ANSWER,
            "quay-fee/decoys/rounds-down/answer.py": _WORKED_ANSWER.replace(" + 14", ""),
            "quay-fee/decoys/no-largest/answer.py": _WORKED_ANSWER.replace(
                "min(900, max(0, quarters * 40))", "max(0, quarters * 40)"
            ),
        },
    )
    return exercise


def add_exercise(suite: Path, kind: str, name: str, language: str) -> Path:
    """Add a skeleton of one kind to a suite; its folder.

    Raises
    ------
    InputError
        The suite is none, the kind or language unknown, or the exercise already exists.
    """
    folder = check_new_exercise(suite, name)
    if kind not in KINDS:
        raise InputError(f'there is no kind "{kind}"', "kind", f"Known: {', '.join(KINDS)}.")
    fixed = {"explain": TEXT, "page": PAGE, "review": TEXT}
    language = fixed.get(kind, language)
    if kind not in fixed and language not in LANGUAGES.programs:
        raise InputError(f'there is no language "{language}"', "--language", f"Known: {', '.join(LANGUAGES.programs)}.")
    names = {TEXT: "reply.md", PAGE: "index.html"}
    file = names[language] if language in names else f"answer{LANGUAGES[language].suffix}"
    write_files(folder, _skeleton(kind, name, language, file))
    return folder


def check_new_exercise(suite: Path, name: str) -> Path:
    """The folder that an exercise of a suite would get.

    Raises
    ------
    InputError
        The suite is none, or the exercise already exists.
    """
    if not (suite / "suite.toml").is_file():
        raise InputError("holds no suite.toml", str(suite), "Make one with `kettlefield suite new`.")
    _check_new(suite / name, "exercise")
    return suite / name


def _skeleton(kind: str, name: str, language: str, file: str) -> dict[str, str]:
    check, cases = _check_of(language)
    spec: dict[str, Any] = {
        "title": TO_WRITE,
        "kind": kind,
        "language": language,
        "file": file,
        "difficulty": 2,
        "topics": [TO_WRITE],
        "tests": TO_WRITE,
        "check": [check],
        "decoy": [
            {"name": name, "outcome": "wrong-answer", "mistake": TO_WRITE}
            for name in ("first-mistake", "second-mistake")
        ],
    }
    files = {"prompt.md": f"{TO_WRITE}\n", **cases}
    folders = ["answer", "decoys/first-mistake", "decoys/second-mistake"]
    if kind in {"explain", "page"}:
        files[GUIDANCE] = "".join(f"{mark}: {TO_WRITE}\n" for mark in range(4, -1, -1))
    if kind == "page":
        spec["check"].append({"kind": "page-rules", "name": "simple rules"})
    if kind in {"repair", "refactor"}:
        folders.append("given")
        spec["check"].append(_check_of_change(kind, file))
    if kind == "review":
        spec["check"] = [{"kind": "findings", "name": "findings", "kinds": [TO_WRITE]}]
    if kind in {"continue", "infill"}:
        files[OPENING] = f"{TO_WRITE}\n"
    if kind == "infill":
        files[CLOSING] = f"{TO_WRITE}\n"
    if kind == "files":
        second = f"second{LANGUAGES[language].suffix}"
        spec["files"] = [second]
        files |= {f"{folder}/{second}": f"{TO_WRITE}\n" for folder in folders}
    if kind == "tests":
        files = _told_apart(language, spec)
    if kind == "refer":
        spec["refer"] = {"text": f"{name}.md", "needed": [f"## {TO_WRITE}"]}
        files[f"../{TEXTS}/{name}.md"] = f"# {TO_WRITE}\n\n## {TO_WRITE}\n"
    if kind == "extend":
        check, cases = _check_of(language, "second ")
        spec["turn"] = [{"check": [check]}]
        folders.append("answer-2")
        files |= {"prompt-2.md": f"{TO_WRITE}\n", **cases}
    if kind == "workspace":
        folders.append("workspace")
        spec |= {"workspace": {"commands": {"tests": TO_WRITE}}, "check": [_COMMANDS]}
        files["cases.json"] = _cases_text([{"run": TO_WRITE, "stdout": TO_WRITE, "by_hand": True}])
    files |= {f"{folder}/{file}": f"{TO_WRITE}\n" for folder in folders}
    return {"exercise.toml": tomli_w.dumps(spec), **files}


def _check_of_change(kind: str, file: str) -> dict[str, Any]:
    """What a change of given code is held to beside its behaviour."""
    if kind == "refactor":
        return {"kind": "structure", "name": "structure", "file": file, "defines": [TO_WRITE]}
    return {"kind": "edit-scope", "name": "scope", "file": file, "regions": [[1, 1]], "keep": [TO_WRITE]}


_COMMANDS = {"kind": "command", "name": "cases", "cases": "cases.json"}


def _told_apart(language: str, spec: dict[str, Any]) -> dict[str, str]:
    """The implementations of an exercise whose answer is a test program."""
    suffix = LANGUAGES[language].suffix
    names = {part: [f"{part}/{which}{suffix}" for which in ("one", "other")] for part in ("right", "wrong")}
    spec["check"] = [{"kind": "tests", "name": "cases", "subject": f"subject{suffix}", **names}]
    return {"prompt.md": f"{TO_WRITE}\n", **{name: f"{TO_WRITE}\n" for of in names.values() for name in of}}


def _check_of(language: str, prefix: str = "") -> tuple[dict[str, Any], dict[str, str]]:
    """The usual check of a language, and its file of cases."""
    name, file = f"{prefix}cases", f"{prefix.strip()}{'-' if prefix else ''}cases.json"
    if language == TEXT:
        return {"kind": "text", "name": name, "must": [{"name": TO_WRITE, "any": [TO_WRITE]}]}, {}
    if language == PAGE:
        steps: list[dict[str, Any]] = [
            {"do": "click", "on": {"role": "button", "name": TO_WRITE}},
            {"do": "expect", "what": "text", "of": {"css": "#to-be-written"}, "equals": TO_WRITE},
        ]
        return {"kind": "page", "name": name, "steps": "steps.json"}, {"steps.json": _cases_text(steps)}
    if LANGUAGES[language].is_callable:
        cases: list[dict[str, Any]] = [{"args": [], "expect": TO_WRITE, "by_hand": True}]
        return {"kind": "calls", "name": name, "function": "to_be_written", "cases": file}, {file: _cases_text(cases)}
    cases = [{"stdin": TO_WRITE, "stdout": TO_WRITE, "by_hand": True}]
    return {"kind": "program", "name": name, "cases": file}, {file: _cases_text(cases)}


def _cases_text(cases: list[dict[str, Any]]) -> str:
    """One case a line, so that a change shows as the case that it is."""
    return "[\n" + ",\n".join(json.dumps(case, ensure_ascii=False) for case in cases) + "\n]\n"


def _check_new(folder: Path, what: str) -> None:
    if not _ID.fullmatch(folder.name):
        hint = "Use small letters, digits and single hyphens."
        raise InputError(f'"{folder.name}" is not a name for a {what}', "NAME", hint)
    if folder.exists():
        raise InputError("already exists", str(folder), "Choose another name; nothing was changed.")


def write_files(folder: Path, files: dict[str, str]) -> None:
    """Write an exercise's files.

    Raises
    ------
    InputError
        The place cannot be written to.
    """
    try:
        for name, text in files.items():
            path = folder / name
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text, encoding="utf-8")
    except OSError as err:
        raise InputError(f"cannot be written ({err.strerror})", str(folder), "Check the place.") from err
