"""What a report holds beside tables and words: charts, the grid of outcomes, and trials to open; its sections."""

from collections.abc import Iterable, Iterator
from typing import Literal

import msgspec

from kettlefield.core.plaintext import visible
from kettlefield.views.style import Chart
from kettlefield.views.table import Table, Words

Tone = Literal["passed", "some", "none", "fault", "empty"]  # of a square: all samples passed, some, none ...


class Drawn(msgspec.Struct, frozen=True, kw_only=True):
    """A chart in its place."""

    kind: Literal["chart"] = "chart"
    chart: Chart
    folded: bool = False  # shows its title until it is opened


class Square(msgspec.Struct, frozen=True, kw_only=True):
    """One exercise on one candidate."""

    letter: str
    words: str  # for who cannot see the colour
    tone: Tone
    trial_id: int | None


class Grid(msgspec.Struct, frozen=True, kw_only=True):
    """Every exercise on every candidate."""

    kind: Literal["grid"] = "grid"
    candidates: tuple[str, ...]
    rows: tuple[tuple[str, tuple[Square, ...]], ...]  # exercise and its squares
    key: tuple[tuple[str, str], ...]  # letter and outcome
    chart: Chart | None  # the same as a figure, for its files


class Passage(msgspec.Struct, frozen=True, kw_only=True):
    """Text of somebody else, cut where it is long."""

    title: str
    text: str
    length: int  # characters in all
    cut: int = 0  # of them left out


class Picture(msgspec.Struct, frozen=True, kw_only=True):
    """What a page looked like at one width."""

    width: str  # "phone" or "desktop"
    data_url: str


class OpenTrial(msgspec.Struct, frozen=True, kw_only=True):
    """One trial to open."""

    id: int
    title: str
    outcome: str
    lines: tuple[str, ...]  # checks and timings in words
    passages: tuple[Passage, ...]
    pictures: tuple[Picture, ...] = ()  # of a page, as it was opened


class OpenExercise(msgspec.Struct, frozen=True, kw_only=True):
    """One exercise with its prompt and the trials of it."""

    id: str
    prompt: Passage
    trials: tuple[OpenTrial, ...]


class Trials(msgspec.Struct, frozen=True, kw_only=True):
    """Trials to open, by exercise."""

    kind: Literal["trials"] = "trials"
    exercises: tuple[OpenExercise, ...]
    left_out: int


class Beside(msgspec.Struct, frozen=True, kw_only=True):
    """What is read together: in two columns where there is room."""

    kind: Literal["beside"] = "beside"
    left: tuple[Words | Table | Drawn, ...]
    right: tuple[Words | Table | Drawn, ...]


class Compared(msgspec.Struct, frozen=True, kw_only=True):
    """A line of two texts side by side; None: there is none on that side."""

    left: str | None
    right: str | None
    same: bool


class LostAnswer(msgspec.Struct, frozen=True, kw_only=True):
    """An exercise that the reference level solved and another level did not."""

    exercise: str
    candidate: str
    reference: str
    outcome: str
    found: str  # what failed, in words
    lines: tuple[Compared, ...]  # of both answers
    trials: tuple[int, int]  # the reference's and the level's


class Lost(msgspec.Struct, frozen=True, kw_only=True):
    """What levels lost against their references."""

    kind: Literal["lost"] = "lost"
    answers: tuple[LostAnswer, ...]
    left_out: int


Part = Words | Table | Drawn | Grid | Trials | Lost | Beside


class Section(msgspec.Struct, frozen=True, kw_only=True):
    """One question and its answer."""

    anchor: str
    title: str
    parts: tuple[Part, ...]


def flat(parts: Iterable[Part]) -> Iterator[Words | Table | Drawn | Grid | Trials | Lost]:
    """Parts one after the other, for where nothing stands side by side."""
    for part in parts:
        if part.kind == "beside":
            yield from (*part.left, *part.right)
        else:
            yield part


def drawn(chart: Chart | None, *, folded: bool = False) -> Drawn | None:
    """A chart in its place; None where there is nothing to draw."""
    return None if chart is None else Drawn(chart=chart, folded=folded)


def cut(title: str, text: str, most: int, *, ends: bool = False) -> Passage:
    """Text of somebody else, cut to a number of characters; control characters are made visible.

    With ``ends`` a quarter of them are its first and the others its last: a task may stand before what it shows, or
    after a long text.
    """
    shown = visible(text)
    left_out = max(0, len(shown) - most)
    kept = shown[:most]
    if ends and left_out:
        head = most // 4
        kept = f"{shown[:head]}\n\n[...]\n\n{shown[head - most :]}"
    return Passage(title=title, text=kept, length=len(shown), cut=left_out)
