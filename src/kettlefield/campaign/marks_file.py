"""Marks that a sheet saved, taken into the record they belong to."""

from collections.abc import Sequence
from pathlib import Path

import msgspec

from kettlefield.analysis.items import Item
from kettlefield.analysis.marks import standing_marks
from kettlefield.core.errors import InputError
from kettlefield.core.marking import HIGHEST, LOWEST, SHEET_FORMAT
from kettlefield.record.entries import MarkEntry
from kettlefield.record.store import Record
from kettlefield.suite.toml_struct import parse_json, read_text

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
        It is no such file, or holds a mark of a reply that is not in this record.
    """
    data = parse_json(read_text(path), path)
    try:
        file = msgspec.convert(data, MarksFile)
    except msgspec.ValidationError as err:
        raise InputError(f"is no file of marks ({err})", str(path), "Save it from the sheet anew.") from err
    if file.format != SHEET_FORMAT or not file.marker.strip() or not file.marker.isprintable():
        raise InputError("is no file of marks", str(path), f'Its format is "{SHEET_FORMAT}", with the marker\'s name.')
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
