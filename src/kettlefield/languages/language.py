"""What a language is to us beyond its text: where its toolchain is, how an answer is built, run and called."""

import re
from collections.abc import Callable
from importlib import resources
from pathlib import Path

import msgspec

from kettlefield.core.extraction.syntax import Syntax

HARNESS = Path(str(resources.files("kettlefield.languages") / "harness"))
MADE_DIR = ".made"  # of what a build makes; an answer's own names never begin with a dot
PREPARED = f"{MADE_DIR}/prepared"  # what a language's preparation left, seen by its builds


class Toolchain(msgspec.Struct, frozen=True, kw_only=True):
    """One language's interpreter or compiler, ready to be run from inside an isolation."""

    language: str
    program: str  # the program itself, never a version manager's shim: a shim costs 100 ms a start
    version: str
    mounts: tuple[str, ...] = ()  # folders outside /usr that it needs to see


class Missing(msgspec.Struct, frozen=True, kw_only=True):
    """A language that cannot be run here."""

    language: str
    remedy: str


class Preparation(msgspec.Struct, frozen=True, kw_only=True):
    """What a compiler would do afresh for each answer, done once: each build finds it as ``PREPARED``.

    A build must also end well without it, only later.
    """

    files: dict[str, str]  # of a program of ours
    line: str  # a bash line that leaves what is kept in /tmp/out


class Sanitiser(msgspec.Struct, frozen=True, kw_only=True):
    """A second way to build, whose program says itself when it does what it must not."""

    build: str  # as ``Recipe.build``
    report: re.Pattern[str]  # the line of standard error that says what was wrong
    env: dict[str, str] = msgspec.field(default_factory=dict)  # of the run
    by_default: bool = True  # for every check that runs a program of this language
    preparation: Preparation | None = None


class Together(msgspec.Struct, frozen=True, kw_only=True):
    """One run of a compiler over several answers, each in a folder of its own: most of its time is its start.

    It is for answers that one hand wrote: they are not shut off from each other.
    """

    files: dict[str, str]  # of a program of ours that starts the compiler
    line: str  # leaves in /tmp/made/FOLDER what ``Recipe.build`` would leave; ``FOLDERS`` stands for the folders


class Recipe(msgspec.Struct, frozen=True, kw_only=True):
    """How answers are built and run; ``@`` stands for the answer's file, ``PROGRAM`` for the toolchain's."""

    build: str | None  # a bash line that leaves the program in /tmp/out, or that only checks
    keeps: str | None  # name that what it made gets beside the answer; None: the source itself is run
    run: tuple[str, ...]
    missing: re.Pattern[str]  # what a compiler or the run says when a package or header is not there
    syntax: re.Pattern[str] | None = None  # what a run says when the source does not even parse
    bound_address_space: bool = True  # of the run
    joins: bool = False  # the compiler takes all source files of a program at once
    sanitiser: Sanitiser | None = None
    preparation: Preparation | None = None
    together: Together | None = None


class Harness(msgspec.Struct, frozen=True, kw_only=True):
    """A program of ours in the language itself: it runs an answer, or calls its functions one by one.

    ``{fd}`` stands for the descriptor that it reports on, ``{heap_mib}`` for the memory that a collector may use.
    """

    program: tuple[str, ...]  # arguments; nonce, the answer's file and its own arguments follow
    calls: tuple[str, ...]  # arguments; the order comes on standard input
    flags: tuple[str, ...] = ()  # of the interpreter
    folder: Path = HARNESS  # holds the program, the first of the arguments
    bound_address_space: bool = True  # False: the runtime reserves far more than it uses
    tells_whole_numbers: bool = False  # 5 and 5.0 are of different types
    takes_packages: bool = False  # an exercise may declare packages


class Language(Syntax, frozen=True, kw_only=True):
    """One language; a module of this package or of a third party offers it as a global."""

    probe: Callable[[], Toolchain | Missing] | None = None  # None: nothing of its own is run
    environment: str = ""  # the line of a prompt that names the version: "Go {version}, standard library only"
    recipe: Recipe | None = None
    harness: Harness | None = None
    is_query: bool = False  # it asks a database: a program cannot be written in it alone
    parse_check: tuple[str, ...] = ()  # arguments that make the toolchain's program parse a file and no more
    parse_names: tuple[str, ...] = ()  # what that file may be called; each is tried

    @property
    def is_callable(self) -> bool:
        """Whether functions of an answer can be called one by one."""
        return self.harness is not None
