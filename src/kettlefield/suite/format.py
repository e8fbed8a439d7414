"""The exercise format: what ``exercise.toml`` and its case files may hold. Described in docs/reference."""

from pathlib import Path
from typing import Any, Literal, get_args

import msgspec

from kettlefield.core.outcome import Outcome
from kettlefield.core.units import Duration, Size

Kind = Literal[
    "write",
    "steps",
    "repair",
    "extend",
    "continue",
    "infill",
    "data",
    "speed",
    "explain",
    "files",
    "page",
    "tests",
    "refer",
    "review",
    "refactor",
    "workspace",
]
KINDS: tuple[str, ...] = get_args(Kind)
Voice = Literal["description", "ticket", "chat", "mail", "report", "stub"]  # how people ask; a report may have a log
VOICES: tuple[Voice, ...] = get_args(Voice)
Selection = Literal["short", "screen", "all"]  # each holds those before it
SELECTIONS: tuple[Selection, ...] = get_args(Selection)
GUIDANCE = "guidance.md"  # how replies are marked from 0 to 4
WORKSPACES = "workspaces"  # folder of a suite: repositories that its exercises are set in
TEXTS = "texts"  # folder of a suite: long texts that its exercises are about
OPENING, CLOSING = "opening.txt", "closing.txt"  # what stands before and after a gap


class Part(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What all tables share: no key goes unread."""


class Limits(Part, frozen=True, kw_only=True):
    """What running an answer may use; for one check, all its cases together."""

    wall: Duration = Duration(10)
    cpu: Duration = Duration(5)
    memory: Size = Size(512 * 2**20)
    output: Size = Size(2**20)  # standard output and error together


class Check(Part, frozen=True, kw_only=True):
    """What the tables of all kinds of checks share; the kinds are modules of ``grading/checks``."""

    name: str
    weight: float = 1.0
    required: bool = True


class Decoy(Part, frozen=True, kw_only=True):
    """A wrong answer that the checks must catch."""

    name: str  # folder under decoys/
    outcome: Outcome  # what grading it must end in
    mistake: str  # the real mistake that it stands for
    turn: int = 1  # of the scripted turns, the one that it answers


class Claim(Part, frozen=True, kw_only=True):
    """A demand of the prompt, and the decoy that proves that the checks hold an answer to it."""

    says: str | tuple[str, ...]  # words of the prompt; several places where it says the same more than once
    broken_by: str  # a decoy, which breaks this claim and no other
    everywhere: bool = False  # it bears on every case, so its decoy gets none of them right

    @property
    def places(self) -> tuple[str, ...]:
        """The words of each place."""
        return (self.says,) if isinstance(self.says, str) else self.says


class TurnFile(Part, frozen=True, kw_only=True):
    """A scripted follow-up turn; its prompt is ``prompt-N.md``, its own answer lies in ``answer-N/``."""

    check: tuple[Any, ...]  # of ``Check``
    replaces: tuple[str, ...] = ()  # earlier checks that this turn's wish overrides


class Parameter(Part, frozen=True, kw_only=True):
    """What variants of an exercise change; ``@@name@@`` stands for its value in every text.

    A rule that has several ways (which of two equals comes first, which end counts) has texts for each of them: the
    sentence of the prompt, the operator of the answer. ``@@name.text@@`` stands for the text of the way drawn.
    """

    base: int | str  # in the exercise as written: seed 0
    low: int | None = None  # whole numbers from low to high
    high: int | None = None
    step: int = 1
    pick: tuple[int | str, ...] = ()  # or one of these
    ways: dict[str, dict[str, str]] = {}  # or one of these rules: way -> text's name -> text


class ReferTable(Part, frozen=True, kw_only=True):
    """A long text that stands before the prompt, and without which the task cannot be done."""

    text: str  # file in the suite's folder ``texts``, which exercises may share
    needed: tuple[str, ...]  # heading lines of the sections that the task needs
    without: tuple[str, ...] = ()  # heading lines of the sections that are left out: a shorter text
    library: str | None = None  # file beside the text that lies beside the answer where it runs


class WorkspaceTable(Part, frozen=True, kw_only=True):
    """A small repository that a model works in through tools, and what one run of it may use."""

    base: str | None = None  # folder in the suite's ``workspaces``, which exercises may share
    commands: dict[str, str] = {}  # name -> bash line that the model may run; {python}: that language's program
    protected: tuple[str, ...] = ()  # patterns of files that must stay as they are
    build: str | None = None  # the command without which nothing works: a change after which it fails broke the build
    turns: int = 40  # requests to the model
    calls: int = 100  # of tools
    tokens: int = 60_000  # that the model writes, all turns together
    wall: Duration = Duration(1200)  # of the whole run
    needs: tuple[str, ...] = ()  # further languages whose programs the commands or checks run


class ExerciseFile(Part, frozen=True, kw_only=True):
    """``exercise.toml`` as written."""

    title: str
    kind: Kind
    language: str  # one of the known languages, "any" or "text"
    file: str  # name that the answer's program gets
    files: tuple[str, ...] = ()  # further files that the answer must hold
    difficulty: int  # 1 (easy) to 5 (hard)
    topics: tuple[str, ...]
    tests: str  # what the exercise finds out
    check: tuple[Any, ...]  # of ``Check``: each kind has a table of its own, which the loader reads
    decoy: tuple[Decoy, ...]
    claim: tuple[Claim, ...] = ()  # every demand of the prompts
    turn: tuple[TurnFile, ...] = ()  # the second turn and those after it
    entry: str | None = None  # function or class that the program must define
    packages: tuple[str, ...] = ()  # that must be there beside the standard library (Python)
    refer: ReferTable | None = None
    workspace: WorkspaceTable | None = None
    vary: dict[str, Parameter] = {}  # by name
    selection: Selection = "all"  # the narrowest that it belongs to
    voice: Voice = "description"  # in which its first prompt is written
    limits: Limits = Limits()

    @property
    def varies(self) -> Literal["rules", "values"] | None:
        """What its variants change: its rules, values alone, or nothing."""
        if not self.vary:
            return None
        return "rules" if any(parameter.ways for parameter in self.vary.values()) else "values"


def is_in(spec: ExerciseFile, selection: Selection) -> bool:
    """Whether an exercise belongs to a selection: to its own, and to those that hold it."""
    return SELECTIONS.index(spec.selection) <= SELECTIONS.index(selection)


class Turn(msgspec.Struct, frozen=True, kw_only=True):
    """One turn of an exercise as it is asked and graded."""

    prompt: str
    checks: tuple[Check, ...]  # of this turn and of those before it that still hold
    answer: dict[str, str]  # file name -> text
    also: dict[str, dict[str, str]] = {}  # other honest answers, which must pass too: name -> file name -> text


class ReferredText(msgspec.Struct, frozen=True, kw_only=True):
    """A text that is referred to, as it is shown, and where the parts stand in it that the task needs."""

    name: str
    text: str
    needed: dict[str, tuple[int, int]]  # heading -> first character, and the one after the last
    library: dict[str, str]  # file name -> text: what lies beside the answer where it runs

    def section(self, heading: str) -> str:
        """One needed section, heading included."""
        first, end = self.needed[heading]
        return self.text[first:end]


class Exercise(msgspec.Struct, frozen=True, kw_only=True):
    """One exercise, read and checked: the file's fields, its turns, cases, own answers and decoys."""

    id: str
    folder: Path
    spec: ExerciseFile
    turns: tuple[Turn, ...]
    cases: dict[str, tuple[Any, ...]]  # by check name: what its kind reads beside exercise.toml
    scripts: dict[str, str]  # check programs and makers of inputs: file name -> text
    given: dict[str, str]  # files that the model is shown and may edit
    opening: str | None  # what stands before a gap; None when there is none
    closing: str
    decoys: dict[str, dict[str, str]]  # decoy name -> file name -> text
    guidance: str | None = None  # for those who mark replies from 0 to 4; none: the general one
    beside: dict[str, str] = {}  # files that stand beside the answer where it runs: a library that it uses
    refer_to: ReferredText | None = None  # what stands before the prompt
    workspace: dict[str, str] = {}  # the repository as the model finds it: path -> text
    is_variant: bool = False  # drawn from a seed: what its cases expect is still to be worked out

    @property
    def prompt(self) -> str:
        """What the first turn asks."""
        return self.turns[0].prompt

    @property
    def answer(self) -> dict[str, str]:
        """The own answer to the first turn."""
        return self.turns[0].answer

    @property
    def checks(self) -> tuple[Check, ...]:
        """Every check of every turn, once."""
        return (*self.spec.check, *(check for turn in self.spec.turn for check in turn.check))

    def own_turn(self, check: Check) -> int:
        """Number of the turn that a check belongs to."""
        later = (number for number, turn in enumerate(self.spec.turn, 2) if check in turn.check)
        return next(later, 1)


class Suite(msgspec.Struct, frozen=True, kw_only=True):
    """A set of exercises and the digest that fixes it."""

    name: str
    folder: Path
    title: str
    digest: str  # "sha256:..." over every file of the suite, and the seed of its variants
    seed: int  # 0: as written
    selection: Selection
    exercises: tuple[Exercise, ...]

    @property
    def label(self) -> str:
        """Its name with what sets its results apart: a seed other than the first, a selection."""
        seed = f", seed {self.seed}" if self.seed else ""
        return self.name + seed + (f", {self.selection} selection" if self.selection != "all" else "")


class SuiteFile(Part, frozen=True, kw_only=True):
    """``suite.toml`` as written."""

    title: str
    description: str
