"""The exercise format: what ``exercise.toml`` and its case files may hold. Described in docs/reference."""

from pathlib import Path
from typing import Any, Literal, get_args

import msgspec

from kettlefield.core.outcome import Outcome
from kettlefield.core.units import Duration, Size
from kettlefield.suite.page_steps import Step

Kind = Literal["write", "steps", "repair", "extend", "continue", "infill", "data", "speed", "explain", "files", "page"]
KINDS: tuple[str, ...] = get_args(Kind)
LanguageName = Literal["python", "javascript", "c", "cpp", "rust", "java", "go", "bash", "sql", "html", "any", "text"]
CALLABLE = ("python", "javascript")  # languages whose functions can be called one by one
Selection = Literal["all", "short"]
GUIDANCE = "guidance.md"  # how replies are marked from 0 to 4
OPENING, CLOSING = "opening.txt", "closing.txt"  # what stands before and after a gap


class _Part(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What all parts share: no key goes unread."""


class Limits(_Part, frozen=True, kw_only=True):
    """What running an answer may use; for one check, all its cases together."""

    wall: Duration = Duration(10)
    cpu: Duration = Duration(5)
    memory: Size = Size(512 * 2**20)
    output: Size = Size(2**20)  # standard output and error together


class _Check(_Part, frozen=True, kw_only=True):
    """What all checks share."""

    name: str
    weight: float = 1.0
    required: bool = True


Comparison = Literal["equal", "any-order", "one-of", "within", "pattern"]


class CallsCheck(_Check, frozen=True, kw_only=True, tag_field="kind", tag="calls"):
    """A named function, or the methods of one object, called with JSON arguments; compared outside the sandbox."""

    function: str | None = None
    object: str | None = None  # a class: each case makes one object and calls its methods in turn
    cases: str  # file beside exercise.toml: [{"args": [...], "expect": ...}]
    compare: Comparison = "equal"
    computed_words: bool = False  # what is expected holds words that are worked out, so no prompt can say them
    tolerance: float | None = None  # absolute or relative, whichever is larger; none: exact

    @property
    def callee(self) -> str:
        """What is called: the function or the class."""
        return self.function or self.object or ""


class ProgramCheck(_Check, frozen=True, kw_only=True, tag_field="kind", tag="program"):
    """A whole program: standard input, arguments and files in; output, exit status and written files out."""

    cases: str  # file beside exercise.toml: [{"stdin": "...", "stdout": "...", "exit": 0}]
    whitespace: Literal["exact", "trailing", "folded"] = "trailing"  # which differences do not count
    computed_words: bool = False  # as above
    pattern: bool = False  # what is expected is a regular expression for the whole output
    tolerance: float | None = None  # words that are numbers may differ by this much; white space is folded then


class ScriptCheck(_Check, frozen=True, kw_only=True, tag_field="kind", tag="script"):
    """The exercise's own check program, shut in by itself; it sees what the answer left and speaks TAP 14."""

    script: str  # Python file beside exercise.toml
    cases: str  # program cases; what they expect is for the script to say


class GrowthCheck(_Check, frozen=True, kw_only=True, tag_field="kind", tag="growth"):
    """How cost grows with size: the exponent's interval must lie below what is allowed."""

    function: str | None = None  # none: the whole program
    inputs: str  # Python file beside exercise.toml: called with SIZE and SEED it prints the input
    sizes: tuple[int, ...]
    time_below: float  # exponent of processor time
    memory_below: float | None = None  # exponent of peak memory


class BudgetCheck(_Check, frozen=True, kw_only=True, tag_field="kind", tag="budget"):
    """Time against the exercise's own answer, measured side by side on this rig."""

    function: str | None = None
    inputs: str
    size: int
    at_most: float  # times the own answer's processor time


class Fact(_Part, frozen=True, kw_only=True):
    """Something that a text says, in any of several wordings."""

    name: str
    any: tuple[str, ...]  # regular expressions, whatever the case


class TextCheck(_Check, frozen=True, kw_only=True, tag_field="kind", tag="text"):
    """Facts that an explanation must hold and claims that it must not; partial by design."""

    must: tuple[Fact, ...] = ()
    must_not: tuple[Fact, ...] = ()
    at_least: float = 1.0  # share of the facts; a claim that must not be there always fails
    min_words: int = 0
    max_words: int | None = None


class ScopeCheck(_Check, frozen=True, kw_only=True, tag_field="kind", tag="edit-scope"):
    """An edit stays where it was asked for, and keeps what was not to change."""

    file: str
    regions: tuple[tuple[int, int], ...]  # first and last line of the given file that the edit may touch
    max_outside: int = 0  # lines changed elsewhere
    keep: tuple[str, ...] = ()  # signatures and names that must still stand, white space folded


Width = Literal["phone", "desktop"]
WIDTHS: dict[Width, tuple[int, int]] = {"phone": (390, 844), "desktop": (1280, 800)}  # width and height in px
Rule = Literal["language", "names", "contrast", "keyboard", "fits"]


class PageCheck(_Check, frozen=True, kw_only=True, tag_field="kind", tag="page"):
    """A page opened in a browser: steps, and what it must show after them; it makes no error meanwhile."""

    steps: str  # file beside exercise.toml: [{"do": "click", "on": {...}}, {"do": "expect", ...}]
    widths: tuple[Width, ...] = ("phone", "desktop")
    dialogs: bool = False  # it may open them; they are dismissed


class PageRulesCheck(_Check, frozen=True, kw_only=True, tag_field="kind", tag="page-rules"):
    """Simple rules of an accessible page, at both widths."""

    rules: tuple[Rule, ...] = ("language", "names", "contrast", "keyboard", "fits")


Check = (
    CallsCheck
    | ProgramCheck
    | ScriptCheck
    | GrowthCheck
    | BudgetCheck
    | TextCheck
    | ScopeCheck
    | PageCheck
    | PageRulesCheck
)


class Decoy(_Part, frozen=True, kw_only=True):
    """A wrong answer that the checks must catch."""

    name: str  # folder under decoys/
    outcome: Outcome  # what grading it must end in
    mistake: str  # the real mistake that it stands for
    turn: int = 1  # of the scripted turns, the one that it answers


class TurnFile(_Part, frozen=True, kw_only=True):
    """A scripted follow-up turn; its prompt is ``prompt-N.md``, its own answer lies in ``answer-N/``."""

    check: tuple[Check, ...]
    replaces: tuple[str, ...] = ()  # earlier checks that this turn's wish overrides


class Parameter(_Part, frozen=True, kw_only=True):
    """A value that variants of an exercise change; ``@@name@@`` stands for it in every text."""

    base: int | str  # in the exercise as written: seed 0
    low: int | None = None  # whole numbers from low to high
    high: int | None = None
    step: int = 1
    pick: tuple[int | str, ...] = ()  # or one of these


class ExerciseFile(_Part, frozen=True, kw_only=True):
    """``exercise.toml`` as written."""

    title: str
    kind: Kind
    language: LanguageName
    file: str  # name that the answer's program gets
    files: tuple[str, ...] = ()  # further files that the answer must hold
    difficulty: int  # 1 (easy) to 5 (hard)
    topics: tuple[str, ...]
    tests: str  # what the exercise finds out
    check: tuple[Check, ...]
    decoy: tuple[Decoy, ...]
    turn: tuple[TurnFile, ...] = ()  # the second turn and those after it
    entry: str | None = None  # function or class that the program must define
    packages: tuple[str, ...] = ()  # that must be there beside the standard library (Python)
    vary: dict[str, Parameter] = {}  # by name
    short: bool = False  # belongs to the suite's short selection
    limits: Limits = Limits()


class MethodStep(_Part, frozen=True, kw_only=True):
    """One method call on a case's object."""

    call: str
    args: list[Any] = []
    expect: Any = None
    raises: str | None = None


class CallCase(_Part, frozen=True, kw_only=True):
    """One call, or one object and its calls: the arguments go into the sandbox, what is expected never does."""

    args: list[Any] = []
    expect: Any = None
    raises: str | None = None  # the error's type; nothing is returned then
    steps: tuple[MethodStep, ...] = ()
    by_hand: bool = False  # worked from the prompt, by hand or by a second way, not by running the answer


class ProgramCase(_Part, frozen=True, kw_only=True):
    """One run of a program."""

    stdin: str = ""
    args: tuple[str, ...] = ()
    files: dict[str, str] = {}  # laid into its folder, where it may change them
    stdout: str | None = None  # none: not looked at
    exit: int = 0
    writes: dict[str, str] = {}  # files that it must leave; *.json are compared as data
    by_hand: bool = False


class Turn(msgspec.Struct, frozen=True, kw_only=True):
    """One turn of an exercise as it is asked and graded."""

    prompt: str
    checks: tuple[Check, ...]  # of this turn and of those before it that still hold
    answer: dict[str, str]  # file name -> text


class Exercise(msgspec.Struct, frozen=True, kw_only=True):
    """One exercise, read and checked: the file's fields, its turns, cases, own answers and decoys."""

    id: str
    folder: Path
    spec: ExerciseFile
    turns: tuple[Turn, ...]
    call_cases: dict[str, tuple[CallCase, ...]]  # by check name
    program_cases: dict[str, tuple[ProgramCase, ...]]
    scripts: dict[str, str]  # check programs and makers of inputs: file name -> text
    given: dict[str, str]  # files that the model is shown and may edit
    opening: str | None  # what stands before a gap; None when there is none
    closing: str
    decoys: dict[str, dict[str, str]]  # decoy name -> file name -> text
    page_steps: dict[str, tuple[Step, ...]] = {}  # by check name
    guidance: str | None = None  # for those who mark replies from 0 to 4; none: the general one
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


class SuiteFile(_Part, frozen=True, kw_only=True):
    """``suite.toml`` as written."""

    title: str
    description: str
