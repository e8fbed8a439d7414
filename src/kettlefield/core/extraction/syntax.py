"""What a programming language looks like as text: its names, its comments, what defines a name, where a unit ends.

The languages themselves are modules of ``kettlefield.languages``; a table of them is passed to whoever reads replies.
"""

import re
from collections.abc import Iterator, Mapping
from typing import Literal

import msgspec

# what an exercise says that leaves the choice of language to the model, and one that wants prose in place of code
ANY, TEXT = "any", "text"
# what a page is written in: it is opened in a browser, not run
PAGE = "html"
# fences that hold no program whatever the exercise asks: commands, output, data
NO_PROGRAM = frozenset(
    (
        *("text", "txt", "plain", "plaintext", "output", "console", "terminal", "shell-session", "log"),
        *("json", "yaml", "toml", "ini", "diff", "http", "none"),
    )
)
MOST_GUESSED_CHARS = 20_000  # enough to know a language by; each sign is looked for in all of it

# how a unit (a function or class) ends: by the tree that Python parses, where its braces close, at a line that holds a
# closing brace only, at a semicolon; "" where nothing tells
Structure = Literal["tree", "braces", "closing line", "semicolon", ""]


class Syntax(msgspec.Struct, frozen=True, kw_only=True):
    """One language as replies name it and write it."""

    name: str  # as exercises write it
    title: str  # as prompts and tables write it
    suffix: str
    aliases: frozenset[str] = msgspec.field(
        default_factory=frozenset
    )  # lower case, as code fences name it beside its name
    order: int = 100  # where several are listed: what is asked for most comes first
    runs: bool = True  # a program can be written in it alone
    skipped: re.Pattern[str] | None = None  # a string or a comment; one that is not closed runs to its end
    comments: tuple[str, ...] = ()  # how a comment begins; what else is skipped is a string
    structure: Structure = ""
    units: re.Pattern[str] | None = None  # functions, types at the left margin; the name in a group, whichever it is
    values: re.Pattern[str] | None = None  # further names that lines bring in: constants, imports
    head: str = ""  # what a whole file has at its head, and a piece of one may lack
    main: re.Pattern[str] | None = None  # what makes a program run by itself
    last_wins: bool = False  # a name may be defined twice and the last counts
    folds_case: bool = False  # letters' case means nothing
    start: re.Pattern[str] | None = None  # a line that can begin a program, for replies without a fence
    sign: re.Pattern[str] | None = None  # what tells untagged code to be of this language
    sign_rank: int = 50  # 0: the surest sign, looked for first
    in_pages: bool = False  # the scripts of a page are written in it
    prompts: tuple[str, str] | None = None  # the interactive interpreter's first and second
    named_by: re.Pattern[str] | None = None  # a unit that the file must be called after
    stem: str = "answer"  # of a file that is called after nothing

    def names(self, alias: str) -> bool:
        """Whether a code fence with that word means this language."""
        return alias.lower() in {self.name, self.suffix[1:], *self.aliases}

    def file_name(self, text: str) -> str:
        """The name of a file with that text."""
        unit = self.named_by.search(text) if self.named_by is not None else None
        return (unit[1] if unit is not None else self.stem) + self.suffix


class Syntaxes(Mapping[str, Syntax]):
    """The languages that are known, by name."""

    def __init__(self, known: Mapping[str, Syntax]) -> None:
        self._known = known

    def __getitem__(self, name: str) -> Syntax:
        """The language of that name."""
        return self._known[name]

    def __iter__(self) -> Iterator[str]:
        """Every name, in the order in which they are listed."""
        return iter(sorted(self._known, key=lambda name: (self._known[name].order, name)))

    def __len__(self) -> int:
        """How many there are."""
        return len(self._known)

    @property
    def programs(self) -> tuple[str, ...]:
        """Names of those that a program can be written in."""
        return tuple(one.name for one in self.values() if one.runs)

    def of_alias(self, alias: str) -> str | None:
        """The language that a code fence names, or None when it names none that is known."""
        return next((one.name for one in self.values() if one.names(alias)), None)

    def of_suffix(self, name: str) -> str | None:
        """The language that a file name's suffix stands for, or None."""
        suffix = f".{name.rsplit('.', 1)[-1].lower()}" if "." in name else ""
        return next((one.name for one in self.values() if one.suffix == suffix), None)

    def guess(self, text: str) -> str | None:
        """The language of untagged code by its most telling constructs, or None."""
        head = text[:MOST_GUESSED_CHARS]
        ranked = sorted((one for one in self.values() if one.sign is not None), key=lambda one: one.sign_rank)
        return next((one.name for one in ranked if one.sign is not None and one.sign.search(head)), None)
