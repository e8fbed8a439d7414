"""A table as a value: title, columns and typed rows, built once and rendered wherever it is shown."""

import fnmatch
from collections.abc import Callable, Sequence
from enum import StrEnum
from typing import Any, Literal, Protocol, TypeVar

import msgspec

from kettlefield.core.errors import InputError
from kettlefield.core.plaintext import visible
from kettlefield.core.statistics.estimate import Estimate, with_interval
from kettlefield.core.units import Unit, format_bytes, format_duration, three_digits

P = TypeVar("P")
STATUSES = frozenset({"met", "not met", "undecided", "approved", "rejected"})


class Align(StrEnum):
    """How a column's cells stand."""

    LEFT = "left"
    RIGHT = "right"
    LINE = "line"  # left, and on one line wherever there is room


class Column(msgspec.Struct, frozen=True, kw_only=True):
    """One column. A cell that is text is shown as it is, None as a dash, anything else through ``show``."""

    name: str
    unit: str = ""  # in the head, so that cells need not repeat it
    align: Align = Align.LEFT
    show: Callable[[Any], str] = str
    once: bool = False  # on a terminal, a value that is the row's above is left out

    @property
    def head(self) -> str:
        """Name and unit."""
        return f"{self.name}, {self.unit}" if self.unit else self.name

    def text(self, value: Any) -> str:
        """A cell as it is shown."""
        if value is None:
            return "-"
        return value if isinstance(value, str) else self.show(value)


class Table(msgspec.Struct, frozen=True, kw_only=True):
    """A table; one that is folded shows its title until it is opened."""

    kind: Literal["table"] = "table"
    title: str
    columns: tuple[Column, ...]
    rows: tuple[tuple[Any, ...], ...]
    note: str = ""
    folded: bool = False

    def texts(self) -> list[tuple[str, ...]]:
        """Every row as it is shown."""
        return [tuple(column.text(value) for column, value in zip(self.columns, row, strict=True)) for row in self.rows]


class Words(msgspec.Struct, frozen=True, kw_only=True):
    """A paragraph, or a list."""

    kind: Literal["words"] = "words"
    text: str = ""
    items: tuple[str, ...] = ()
    tone: Literal["plain", "strong", "warning", "small"] = "plain"
    folds: bool = True  # on a terminal; what is copied from there stays on one line


class View(msgspec.Struct, frozen=True, kw_only=True):
    """What a command shows: a title, then tables and words; and the same as one JSON document."""

    title: str
    simulated: bool
    parts: tuple[Table | Words, ...]
    document: Any = None  # plain data


def table(
    title: str, columns: Sequence[Column], rows: Sequence[tuple[Any, ...]], *, note: str = "", folded: bool = False
) -> Table | None:
    """A table; None where it has no rows."""
    if not rows:
        return None
    return Table(title=title, columns=tuple(columns), rows=tuple(rows), note=note, folded=folded)


def folded(part: Table | None) -> Table | None:
    """The table, folded; None stays None."""
    return None if part is None else msgspec.structs.replace(part, folded=True)


def present(*parts: P | None) -> tuple[P, ...]:
    """The parts that there are."""
    return tuple(part for part in parts if part is not None)


# --- columns -----------------------------------------------------------------------------------------------------


def words(name: str, *, once: bool = False) -> Column:
    """A column of text."""
    return Column(name=name, once=once)


def line(name: str) -> Column:
    """A column of text that stays on one line."""
    return Column(name=name, align=Align.LINE)


def count(name: str, unit: str = "") -> Column:
    """A column of whole numbers."""
    return Column(name=name, unit=unit, align=Align.RIGHT, show="{:,}".format)


def number(name: str, unit: str = "") -> Column:
    """A column of numbers with three digits."""
    return Column(name=name, unit=unit, align=Align.RIGHT, show=three_digits)


def share(name: str) -> Column:
    """A column of shares from 0 to 1, with their intervals where they are estimates."""
    return Column(name=name, align=Align.RIGHT, show=lambda value: with_interval(value, Unit.RATIO))


def signed(name: str) -> Column:
    """A column of differences between shares."""
    return Column(name=name, align=Align.RIGHT, show=_signed)


def percent(name: str) -> Column:
    """A column of percentages."""
    return Column(name=name, align=Align.RIGHT, show=lambda value: f"{value:.{0 if abs(value) >= 0.1 else 1}%}")


def size(name: str) -> Column:
    """A column of sizes in bytes."""
    return Column(name=name, align=Align.RIGHT, show=lambda value: format_bytes(round(value)))


def signed_size(name: str) -> Column:
    """A column of differences between sizes, with their intervals where they are estimates."""
    return Column(name=name, align=Align.RIGHT, show=_signed_size)


def duration(name: str, show: Callable[[Any], str] = format_duration) -> Column:
    """A column of durations; ``show`` may know below which none is shown as a figure."""
    return Column(name=name, align=Align.RIGHT, show=show)


def rate(name: str) -> Column:
    """A column of rates in tokens/s, with their intervals where they are estimates."""
    unit = Unit.TOKENS_PER_SECOND

    def show(value: Any) -> str:
        return with_interval(value, unit).removesuffix(f" {unit.value}")

    return Column(name=name, unit=unit.value, align=Align.RIGHT, show=show)


def _signed(value: Any) -> str:
    if not isinstance(value, Estimate):
        return f"{value:+.2f}"
    low, high = ("?" if bound is None else f"{bound:+.2f}" for bound in (value.low, value.high))
    return f"{value.value:+.2f} ({low} to {high})"


def _signed_size(value: Any) -> str:
    if not isinstance(value, Estimate):
        return f"{'-' if value < 0 else '+'}{format_bytes(abs(round(value)))}"
    low, high = ("?" if bound is None else _signed_size(bound) for bound in (value.low, value.high))
    return _signed_size(value.value) + ("" if value.low is None and value.high is None else f" ({low} to {high})")


class OfCandidate(Protocol):
    """A row about one candidate."""

    @property
    def candidate(self) -> str:
        """Its name."""
        ...


class Named(OfCandidate, Protocol):
    """A row that knows its candidate's part in the plan."""

    @property
    def reference(self) -> bool:
        """Whether it is its model's reference level."""
        ...

    @property
    def baseline(self) -> bool:
        """Whether it is compared with and not up for approval."""
        ...


C = TypeVar("C", bound=OfCandidate)


def chosen(rows: Sequence[C], pattern: str | None) -> list[C]:
    """The rows whose candidate a pattern leaves.

    Raises
    ------
    InputError
        It matches none.
    """
    left = [row for row in rows if pattern is None or fnmatch.fnmatchcase(row.candidate, pattern)]
    if rows and not left:
        names = ", ".join(visible(row.candidate, keep_lines=False) for row in rows)
        raise InputError(f'"{visible(pattern or "")}" matches no candidate', "--only", f"Known here: {names}.")
    return left


def candidate_text(row: Named) -> str:
    """A candidate as tables name it: ``*`` marks the reference level, a baseline is marked in words."""
    return row.candidate + ("*" if row.reference else " (baseline)" if row.baseline else "")


def estimate_json(estimate: Estimate | float | str | None) -> Any:
    """An estimate as the JSON contract writes it."""
    if isinstance(estimate, Estimate):
        return {"value": estimate.value, "low": estimate.low, "high": estimate.high, "n": estimate.n}
    return estimate
