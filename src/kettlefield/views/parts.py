"""What a report is made of: sections of words, tables, charts, the grid of outcomes, and trials to open."""

from dataclasses import dataclass
from typing import Literal

from kettlefield.views.style import Chart

Tone = Literal["passed", "some", "none", "fault", "empty"]  # of a square: all samples passed, some, none ...


@dataclass(frozen=True, slots=True, kw_only=True)
class Words:
    """A paragraph, or a list."""

    kind: Literal["words"] = "words"
    text: str = ""
    items: tuple[str, ...] = ()
    tone: Literal["plain", "strong", "warning", "small"] = "plain"


@dataclass(frozen=True, slots=True, kw_only=True)
class Cell:
    """A table's cell: text, and the word that it is coloured by."""

    text: str
    status: str = ""  # met, not met, undecided, approved, rejected


@dataclass(frozen=True, slots=True, kw_only=True)
class Table:
    """A table; one that is folded shows its title until it is opened."""

    kind: Literal["table"] = "table"
    title: str
    heads: tuple[str, ...]  # one that starts with ``>`` is of numbers, with ``=`` of words that stay on one line
    rows: tuple[tuple[Cell | str, ...], ...]
    note: str = ""
    folded: bool = False


def head_text(head: str) -> str:
    """A heading without its mark."""
    return head.removeprefix(">").removeprefix("=")


@dataclass(frozen=True, slots=True, kw_only=True)
class Drawn:
    """A chart in its place."""

    kind: Literal["chart"] = "chart"
    chart: Chart


@dataclass(frozen=True, slots=True, kw_only=True)
class Square:
    """One exercise on one candidate."""

    letter: str
    words: str  # for who cannot see the colour
    tone: Tone
    trial_id: int | None


@dataclass(frozen=True, slots=True, kw_only=True)
class Grid:
    """Every exercise on every candidate."""

    kind: Literal["grid"] = "grid"
    candidates: tuple[str, ...]
    rows: tuple[tuple[str, tuple[Square, ...]], ...]  # exercise and its squares
    key: tuple[tuple[str, str], ...]  # letter and outcome
    chart: Chart | None  # the same as a figure, for its files


@dataclass(frozen=True, slots=True, kw_only=True)
class Passage:
    """Text of somebody else, cut where it is long."""

    title: str
    text: str
    length: int  # characters in all

    @property
    def cut(self) -> int:
        """How many characters are left out."""
        return self.length - len(self.text)


@dataclass(frozen=True, slots=True, kw_only=True)
class Picture:
    """What a page looked like at one width."""

    width: str  # "phone" or "desktop"
    data_url: str


@dataclass(frozen=True, slots=True, kw_only=True)
class OpenTrial:
    """One trial to open."""

    id: int
    title: str
    outcome: str
    lines: tuple[str, ...]  # checks and timings in words
    passages: tuple[Passage, ...]
    pictures: tuple[Picture, ...] = ()  # of a page, as it was opened


@dataclass(frozen=True, slots=True, kw_only=True)
class OpenExercise:
    """One exercise with its prompt and the trials of it."""

    id: str
    prompt: Passage
    trials: tuple[OpenTrial, ...]


@dataclass(frozen=True, slots=True, kw_only=True)
class Trials:
    """Trials to open, by exercise."""

    kind: Literal["trials"] = "trials"
    exercises: tuple[OpenExercise, ...]
    left_out: int


Part = Words | Table | Drawn | Grid | Trials


@dataclass(frozen=True, slots=True, kw_only=True)
class Section:
    """One question and its answer."""

    anchor: str
    title: str
    parts: tuple[Part, ...]


def present(*parts: Part | None) -> tuple[Part, ...]:
    """The parts that there are."""
    return tuple(part for part in parts if part is not None)


def drawn(chart: Chart | None) -> Drawn | None:
    """A chart in its place; None where there is nothing to draw."""
    return None if chart is None else Drawn(chart=chart)


def cut(title: str, text: str, most: int) -> Passage:
    """Text of somebody else, cut to a number of characters; control characters are made visible."""
    from kettlefield.core.plaintext import visible  # noqa: PLC0415

    shown = visible(text)
    return Passage(title=title, text=shown[:most], length=len(shown))
