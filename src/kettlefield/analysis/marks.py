"""Human marks: which stand, how far markers agree with each other, with themselves and with the checks."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations

import numpy as np
import sqlalchemy as sa

from kettlefield.analysis.items import Item
from kettlefield.core.estimate import Estimate
from kettlefield.core.kappa import agreement_on_scale, parting
from kettlefield.core.marking import CATEGORIES
from kettlefield.record import schema
from kettlefield.record.store import Record

Key = tuple[str, str, int]  # marker, item, showing


@dataclass(frozen=True, slots=True, kw_only=True)
class Mark:
    """A mark that stands."""

    value: int
    note: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Agreement:
    """How far two series of marks agree: quadratic-weighted kappa."""

    who: str
    with_whom: str
    kappa: Estimate | None
    same: int  # marks that are the same
    both: int  # replies marked by both


def standing_marks(record: Record) -> dict[Key, Mark]:
    """The marks that stand: of each marker, reply and showing the last, unless it was taken back."""
    table = schema.mark
    with record.reading() as connection:
        rows = connection.execute(sa.select(table).order_by(table.c.id)).all()
    last = {(row.marker, row.item, row.showing): row for row in rows}
    return {key: Mark(value=row.value, note=row.note) for key, row in last.items() if row.value is not None}


def mean_marks(marks: Mapping[Key, Mark]) -> dict[str, float]:
    """For each item the mean over its markers; a marker who saw it twice counts once, with the mean of both."""
    by_marker: dict[tuple[str, str], list[int]] = {}
    for (marker, item, _), mark in marks.items():
        by_marker.setdefault((item, marker), []).append(mark.value)
    by_item: dict[str, list[float]] = {}
    for (item, _), values in by_marker.items():
        by_item.setdefault(item, []).append(float(np.mean(values)))
    return {item: float(np.mean(values)) for item, values in by_item.items()}


def agreements(marks: Mapping[Key, Mark]) -> tuple[Agreement, ...]:
    """Every two markers on the replies that both marked, and every marker on those that came again."""
    markers = sorted({marker for marker, _, _ in marks})
    first = {marker: {i: m.value for (who, i, s), m in marks.items() if who == marker and s == 1} for marker in markers}
    again = {marker: {i: m.value for (who, i, s), m in marks.items() if who == marker and s > 1} for marker in markers}
    found = [_agreement(marker, "the same, shown again", first[marker], again[marker]) for marker in markers]
    found += [_agreement(one, other, first[one], first[other]) for one, other in combinations(markers, 2)]
    return tuple(found)


def agreement_between(who: str, with_whom: str, ones: Mapping[str, float], others: Mapping[str, float]) -> Agreement:
    """Two series of means on the replies that both have, rounded to whole marks."""
    whole = [{item: _rounded(value) for item, value in marks.items()} for marks in (ones, others)]
    return _agreement(who, with_whom, *whole)


def _agreement(who: str, with_whom: str, ones: Mapping[str, int], others: Mapping[str, int]) -> Agreement:
    pairs = [(ones[item], others[item]) for item in sorted(ones) if item in others]
    return Agreement(
        who=who,
        with_whom=with_whom,
        kappa=agreement_on_scale(pairs, CATEGORIES),
        same=sum(one == other for one, other in pairs),
        both=len(pairs),
    )


def _rounded(value: float) -> int:
    return int(np.floor(value + 0.5))


def parting_by_checks(items: Sequence[Item], marks: Mapping[str, float]) -> Estimate | None:
    """How often a reply whose checks pass is marked above one whose checks fail, ties counting half."""
    marked = [item for item in items if item.digest in marks]
    return parting(
        [marks[item.digest] for item in marked if item.passed],
        [marks[item.digest] for item in marked if not item.passed],
    )
