"""A suite's folder in, checked exercises out; every error names the file and the key."""

import re
from importlib import resources
from pathlib import Path, PurePosixPath
from typing import TypeVar

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.suite import format as fmt
from kettlefield.suite.lock import combine, exercise_digests, lock_faults
from kettlefield.suite.toml_struct import read_json, read_text, read_toml, to_struct

C = TypeVar("C", fmt.CallCase, fmt.ProgramCase)
_ID = re.compile(r"[a-z0-9]+(?:-[a-z0-9]+)*")
MAX_ANSWER_FILES = 50


def find_suite(name: str, beside: Path) -> Path:
    """The folder of a suite: a path (relative to ``beside``), else the name of a built-in one.

    Raises
    ------
    InputError
        There is neither.
    """
    folder = Path(name) if Path(name).is_absolute() else beside / name
    if (folder / "suite.toml").is_file():
        return folder.resolve()
    built_in = Path(str(resources.files("kettlefield") / "suites"))
    known = sorted(path.parent.name for path in built_in.glob("*/suite.toml"))
    if name in known:
        return built_in / name
    raise InputError(
        f'there is no suite "{name}"',
        "suite",
        f"Name a folder that holds suite.toml, or a built-in suite: {', '.join(known)}.",
    )


def load_suite(folder: Path, *, check_lock: bool = True) -> fmt.Suite:
    """Read and check every exercise of a suite.

    Parameters
    ----------
    folder : Path
        Holds ``suite.toml`` and a folder for each exercise.
    check_lock : bool
        Refuse a suite that differs from its own lock file.

    Raises
    ------
    InputError
        A file is missing, malformed or differs from the lock.
    """
    header = to_struct(read_toml(folder / "suite.toml"), fmt.SuiteFile, folder / "suite.toml")
    digests = exercise_digests(folder)
    faults = lock_faults(folder, digests) if check_lock else []
    if faults:
        raise InputError(
            "; ".join(faults),
            str(folder / "suite.lock"),
            "Restore the files, or run `kettlefield vet --lock` on the suite if the change is meant.",
        )
    folders = sorted(path.parent for path in folder.glob("*/exercise.toml"))
    if not folders:
        raise InputError("holds no exercise", str(folder), "Add a folder with an exercise.toml.")
    return fmt.Suite(
        name=folder.name,
        folder=folder,
        title=header.title,
        digest=combine(digests),
        exercises=tuple(load_exercise(path) for path in folders),
    )


def load_exercise(folder: Path) -> fmt.Exercise:
    """Read and check one exercise.

    Raises
    ------
    InputError
        A file is missing or malformed; the message names it.
    """
    path = folder / "exercise.toml"
    spec = to_struct(read_toml(path), fmt.ExerciseFile, path)
    _check_spec(folder, path, spec)
    calls = {
        check.name: _cases(folder / check.cases, fmt.CallCase)
        for check in spec.check
        if isinstance(check, fmt.CallsCheck)
    }
    programs = {
        check.name: _cases(folder / check.cases, fmt.ProgramCase)
        for check in spec.check
        if isinstance(check, fmt.ProgramCheck)
    }
    return fmt.Exercise(
        id=folder.name,
        folder=folder,
        spec=spec,
        prompt=read_text(folder / "prompt.md").strip() + "\n",
        call_cases=calls,
        program_cases=programs,
        answer=_files(folder / "answer", spec.file),
        decoys={decoy.name: _files(folder / "decoys" / decoy.name, spec.file) for decoy in spec.decoy},
    )


def is_plain_name(name: str) -> bool:
    """Whether a file name stays inside its folder: relative, no ``..``, no control character."""
    path = PurePosixPath(name)
    return bool(
        name
        and not path.is_absolute()
        and ".." not in path.parts
        and "\\" not in name
        and all(ch.isprintable() for ch in name)
    )


def _check_spec(folder: Path, path: Path, spec: fmt.ExerciseFile) -> None:
    def refuse(what: str, key: str, hint: str) -> None:
        raise InputError(what, f"{path} [{key}]", hint)

    if not _ID.fullmatch(folder.name):
        refuse(f'folder name "{folder.name}" is no id', "id", "Use small letters, digits and single hyphens.")
    if not 1 <= spec.difficulty <= 5:
        refuse(f"is {spec.difficulty}", "difficulty", "Write 1 (easy) to 5 (hard).")
    if not is_plain_name(spec.file):
        refuse(f"{spec.file!r} leaves the exercise's folder", "file", "Name a file without a path.")
    if not spec.check:
        refuse("there is none", "check", "An exercise needs at least one check.")
    names = [check.name for check in spec.check]
    if len(set(names)) < len(names):
        refuse("two checks share a name", "check", "Give each check a name of its own.")
    if spec.language not in fmt.CALLABLE and any(isinstance(check, fmt.CallsCheck) for check in spec.check):
        refuse(
            f'is "{spec.language}", whose functions cannot be called one by one', "language", 'Use kind = "program".'
        )
    if not any(check.required for check in spec.check):
        refuse("none is required", "check", "At least one check must decide whether the answer passes.")


def _cases(path: Path, kind: type[C]) -> tuple[C, ...]:
    data = read_json(path)
    if not isinstance(data, list) or not data:
        raise InputError("holds no list of cases", str(path), 'Write [{"args": ...}, ...] with at least one case.')
    cases = []
    for number, entry in enumerate(data, 1):
        try:
            cases.append(msgspec.convert(entry, kind))
        except msgspec.ValidationError as err:
            raise InputError(f"case {number}: {err}", str(path), "See docs/reference for the fields.") from err
    return tuple(cases)


def _files(folder: Path, main: str) -> dict[str, str]:
    if not (folder / main).is_file():
        raise InputError(f"there is no {main}", str(folder), "Each answer and decoy holds the file that is asked for.")
    paths = sorted(path for path in folder.rglob("*") if path.is_file() and "__pycache__" not in path.parts)
    if len(paths) > MAX_ANSWER_FILES:
        raise InputError(f"holds {len(paths)} files", str(folder), f"At most {MAX_ANSWER_FILES}.")
    return {path.relative_to(folder).as_posix(): read_text(path) for path in paths}
