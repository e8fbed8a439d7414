"""The exercise format: what ``exercise.toml`` and its case files may hold. Described in docs/reference."""

from pathlib import Path
from typing import Any, Literal

import msgspec

from kettlefield.core.outcome import Outcome
from kettlefield.core.units import Duration, Size

KINDS = ("write",)
Kind = Literal["write"]
LanguageName = Literal["python", "javascript", "c", "cpp", "rust", "java", "go", "bash", "sql"]
CALLABLE = ("python", "javascript")  # languages whose functions can be called one by one


class Limits(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What running an answer may use; for one check, all its cases together."""

    wall: Duration = Duration(10)
    cpu: Duration = Duration(5)
    memory: Size = Size(512 * 2**20)
    output: Size = Size(2**20)  # standard output and error together


class CallsCheck(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, tag_field="kind", tag="calls"):
    """A named function, called with JSON arguments; its results are compared outside the sandbox."""

    name: str
    function: str
    cases: str  # file beside exercise.toml: [{"args": [...], "expect": ...}]
    tolerance: float | None = None  # absolute or relative, whichever is larger; none: exact
    unordered: bool = False  # the result is a list whose order does not count
    weight: float = 1.0
    required: bool = True


class ProgramCheck(
    msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, tag_field="kind", tag="program"
):
    """A whole program: standard input in, standard output and exit status out."""

    name: str
    cases: str  # file beside exercise.toml: [{"stdin": "...", "stdout": "...", "exit": 0}]
    whitespace: Literal["exact", "trailing", "folded"] = "trailing"  # which differences do not count
    tolerance: float | None = None  # words that are numbers may differ by so much; white space is folded then
    weight: float = 1.0
    required: bool = True


Check = CallsCheck | ProgramCheck


class Decoy(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A wrong answer that the checks must catch."""

    name: str  # folder under decoys/
    outcome: Outcome  # what grading it must end in
    mistake: str  # the real mistake that it stands for


class ExerciseFile(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """``exercise.toml`` as written."""

    title: str
    kind: Kind
    language: LanguageName
    file: str  # name that the answer's program gets
    difficulty: int  # 1 (easy) to 5 (hard)
    topics: tuple[str, ...]
    tests: str  # what the exercise finds out
    check: tuple[Check, ...]
    decoy: tuple[Decoy, ...]
    entry: str | None = None  # function that the program must define
    limits: Limits = Limits()


class CallCase(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One call: the arguments go into the sandbox, ``expect`` never does."""

    args: list[Any]
    expect: Any
    by_hand: bool = False  # worked by hand from the prompt, not by running the answer


class ProgramCase(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One run of a program."""

    stdin: str = ""
    args: tuple[str, ...] = ()
    stdout: str
    exit: int = 0
    by_hand: bool = False


class Exercise(msgspec.Struct, frozen=True, kw_only=True):
    """One exercise, read and checked: the file's fields, its prompt, cases, answer and decoys."""

    id: str
    folder: Path
    spec: ExerciseFile
    prompt: str
    call_cases: dict[str, tuple[CallCase, ...]]  # by check name
    program_cases: dict[str, tuple[ProgramCase, ...]]
    answer: dict[str, str]  # file name -> text
    decoys: dict[str, dict[str, str]]  # decoy name -> file name -> text


class Suite(msgspec.Struct, frozen=True, kw_only=True):
    """A set of exercises and the digest that fixes it."""

    name: str
    folder: Path
    title: str
    digest: str  # "sha256:..." over every file of the suite
    exercises: tuple[Exercise, ...]


class SuiteFile(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """``suite.toml`` as written."""

    title: str
    description: str
