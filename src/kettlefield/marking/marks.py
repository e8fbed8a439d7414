"""Human marks: which count, how far markers agree, and marks of a sheet taken into the record."""

from collections.abc import Mapping, Sequence
from itertools import combinations
from pathlib import Path

import msgspec
import numpy as np

from kettlefield.core.errors import InputError
from kettlefield.core.statistics.estimate import Estimate
from kettlefield.core.statistics.kappa import agreement_on_scale, parting
from kettlefield.marking.blind_replies import Item
from kettlefield.marking.scale import CATEGORIES, HIGHEST, LOWEST, SHEET_FORMAT
from kettlefield.record.entries import MarkEntry
from kettlefield.record.store import Record
from kettlefield.results.rows import mark_rows
from kettlefield.suite.typed_toml import parse_json, read_text

Key = tuple[str, str, int]  # marker, item, showing


class Mark(msgspec.Struct, frozen=True, kw_only=True):
    """A mark that stands."""

    value: int
    note: str


class Agreement(msgspec.Struct, frozen=True, kw_only=True):
    """How far two series of marks agree: quadratic-weighted kappa."""

    who: str
    with_whom: str
    kappa: Estimate | None
    same: int  # marks that are the same
    both: int  # replies marked by both


def standing_marks(record: Record) -> dict[Key, Mark]:
    """The marks that stand: of each marker, reply and showing the last, unless it was taken back."""
    last = {(row.marker, row.item, row.showing): row for row in mark_rows(record)}
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
    agreed = [_agreement(marker, "the same, shown again", first[marker], again[marker]) for marker in markers]
    agreed += [_agreement(one, other, first[one], first[other]) for one, other in combinations(markers, 2)]
    return tuple(agreed)


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


MOST_NOTE = 2000


class SheetMark(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One mark as a sheet saves it."""

    item: str
    showing: int
    value: int
    note: str = ""


class MarksFile(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """What a sheet saves."""

    format: str
    marker: str
    marks: tuple[SheetMark, ...]


def read_marks_file(record: Record, items: Sequence[Item], path: Path) -> tuple[str, int, int]:
    """Take a file of marks in, all of it or nothing: the marker, how many are new, how many stood already.

    Raises
    ------
    InputError
        It is not such a file, or holds a mark of a reply that is not in this record.
    """
    data = parse_json(read_text(path), path)
    try:
        file = msgspec.convert(data, MarksFile)
    except msgspec.ValidationError as err:
        raise InputError(f"is not a file of marks ({err})", str(path), "Save it from the sheet again.") from err
    if file.format != SHEET_FORMAT or not file.marker.strip() or not file.marker.isprintable():
        raise InputError(
            "is not a file of marks", str(path), f'Its format is "{SHEET_FORMAT}", with the marker\'s name.'
        )
    known = {item.digest: item for item in items}
    standing = standing_marks(record)
    entries, old = [], 0
    for number, mark in enumerate(file.marks, 1):
        where = f"{path} [mark {number}]"
        if mark.item not in known or mark.showing not in (1, 2):
            raise InputError("marks a reply that is not in this record", where, "Name the record it was made from.")
        if not LOWEST <= mark.value <= HIGHEST or len(mark.note) > MOST_NOTE:
            raise InputError(f"is {mark.value}", where, f"Marks go from {LOWEST} to {HIGHEST}.")
        before = standing.get((file.marker, mark.item, mark.showing))
        if before is not None and (before.value, before.note) == (mark.value, mark.note):
            old += 1
            continue
        entries.append(
            MarkEntry(
                marker=file.marker,
                exercise_id=known[mark.item].exercise,
                item=mark.item,
                showing=mark.showing,
                value=mark.value,
                note=mark.note,
                via="sheet",
            )
        )
    record.save_marks(entries)
    return file.marker, len(entries), old
