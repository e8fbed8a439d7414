"""Which candidates a view shows and how it names them."""

import fnmatch
from collections.abc import Sequence
from typing import Any, Protocol, TypeVar

from kettlefield.core.errors import InputError
from kettlefield.core.plaintext import visible
from kettlefield.core.statistics.estimate import Estimate


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
