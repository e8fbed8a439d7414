"""Edits that a reply makes to given files: unified diffs and search/replace pairs, applied as far as they fit.

Models count lines badly and retype context from memory, so a hunk's numbers are only a hint: what counts is
where its lines stand. How an edit fitted - cleanly, with fuzz, not at all - is always reported.
"""

import difflib
import re
from collections.abc import Callable
from enum import StrEnum
from pathlib import PurePosixPath

import msgspec

from kettlefield.core.extraction.choosing import tag_of
from kettlefield.core.extraction.fences import Block
from kettlefield.core.extraction.wanted import Answer, Wanted, main_first
from kettlefield.core.plaintext import visible

MAX_FUZZ = 2  # context lines at either end of a hunk that may be given up, as patch does
MOST_ROWS = 200_000  # of a diff: beyond that nothing is read
MOST_LINES = 20_000  # of a file that is edited; every change is looked for in all of them
MAX_HUNKS = 500  # more is not an edit of a small file; keeps hostile text cheap
_HUNK = re.compile(r"^@@+(?: -(?P<line>\d{1,9})(?:,(?P<old>\d{1,9}))? \+\d{1,9}(?:,(?P<new>\d{1,9}))? @@+.*|.*)$")
_SEARCH, _MIDDLE, _REPLACE = (
    re.compile(r"^\s*<{5,9}\s*(?:SEARCH|ORIGINAL|OLD|HEAD)?\s*$", re.IGNORECASE),
    re.compile(r"^\s*={5,9}\s*$"),
    re.compile(r"^\s*>{5,9}\s*(?:REPLACE|UPDATED|NEW)?\s*$", re.IGNORECASE),
)


class Fit(StrEnum):
    """How an edit fitted the file."""

    CLEAN = "applied cleanly"
    FUZZ = "applied with fuzz"
    NONE = "did not apply at all"


class Change(msgspec.Struct, frozen=True, kw_only=True):
    """One place of a file: the lines that stand there, and the lines that shall."""

    old: tuple[str, ...]
    new: tuple[str, ...]
    line: int | None = None  # where the edit says it is, counted from 1
    lead: int = 0  # context lines that open both old and new, and may be given up
    trail: int = 0  # and that close both
    miscounted: bool = False  # the numbers of lines that it states are not those that it holds


class FileEdit(msgspec.Struct, frozen=True, kw_only=True):
    """All changes to one file; without a name it means the only one."""

    name: str | None
    changes: tuple[Change, ...]

    @property
    def is_new(self) -> bool:
        """Whether it only adds: it can make a file that was not there."""
        return not any(change.old for change in self.changes)

    @property
    def new_text(self) -> str:
        """What it adds, as a whole file."""
        return "".join(row + "\n" for change in self.changes for row in change.new)


class Patched(msgspec.Struct, frozen=True, kw_only=True):
    """A file after its edit; ``text`` is the original when nothing applied."""

    text: str
    fit: Fit
    remarks: tuple[str, ...] = ()


def parse_diff(text: str) -> tuple[FileEdit, ...]:
    """The edits of a unified diff; wrong line numbers and counts do no harm, an empty line is empty context.

    Source
    ------
    The unified format as POSIX.1-2008 describes it for ``diff -u``; leading ``a/`` and ``b/`` are dropped.
    """
    edits: list[FileEdit] = []
    name: str | None = None
    changes: list[Change] = []
    hunk: list[str] | None = None
    head: re.Match[str] | None = None

    def end_hunk() -> None:
        nonlocal hunk
        if hunk is not None and (change := _change(hunk, head)) is not None and len(changes) < MAX_HUNKS:
            changes.append(change)
        hunk = None

    def end_file() -> None:
        end_hunk()
        if changes:
            edits.append(FileEdit(name=name, changes=tuple(changes)))
        changes.clear()

    lines = text.split("\n", MOST_ROWS)[:MOST_ROWS]
    for index, row in enumerate(lines):
        if row.startswith("--- ") and index + 1 < len(lines) and lines[index + 1].startswith("+++ "):
            end_file()
            name = _file_name(lines[index + 1][4:]) or _file_name(row[4:])
        elif row.startswith("+++ ") and hunk is None:
            continue
        elif row.startswith("@@") and (match := _HUNK.match(row)) is not None:
            end_hunk()
            hunk, head = [], match
        elif hunk is not None:
            if row[:1] in {" ", "+", "-"} or row == "":
                hunk.append(row or " ")
            elif row.startswith("\\"):  # "\ No newline at end of file"
                continue
            else:
                end_hunk()
    end_file()
    return tuple(edits)


def _file_name(header: str) -> str | None:
    name = header.split("\t", 1)[0].strip()
    if name in {"", "/dev/null"}:
        return None
    return name[2:] if name.startswith(("a/", "b/")) else name


def _change(hunk: list[str], head: "re.Match[str] | None") -> Change | None:
    while hunk and hunk[-1] == " ":  # blank lines between hunks are not context
        hunk.pop()
    if not any(row[0] in "+-" for row in hunk):
        return None
    marks = [row[0] for row in hunk]
    lead = next(index for index, mark in enumerate(marks) if mark != " ")
    trail = next(index for index, mark in enumerate(reversed(marks)) if mark != " ")
    old = tuple(row[1:] for row in hunk if row[0] != "+")
    new = tuple(row[1:] for row in hunk if row[0] != "-")
    line = int(head["line"]) if head is not None and head["line"] else None
    stated = tuple(int(head[name] or 1) for name in ("old", "new")) if head is not None and line is not None else None
    return Change(
        old=old,
        new=new,
        line=line,
        lead=lead,
        trail=trail,
        miscounted=stated is not None and stated != (len(old), len(new)),
    )


def parse_pairs(text: str) -> tuple[FileEdit, ...]:
    """The edits of search/replace pairs between conflict markers; a pair that never ends is dropped.

    A line just before a pair that is nothing but a file name says which file it means.
    """
    edits: list[FileEdit] = []
    name: str | None = None
    part: str | None = None
    old: list[str] = []
    new: list[str] = []
    before = ""
    for row in text.split("\n"):
        if _SEARCH.match(row) and part is None:
            part, old, new = "old", [], []
            word = before.strip().strip("*`#: ")
            name = word if re.fullmatch(r"[\w./-]+\.\w+", word) else None
        elif _MIDDLE.match(row) and part == "old":
            part = "new"
        elif _REPLACE.match(row) and part == "new":
            part = None
            if len(edits) < MAX_HUNKS:
                edits.append(FileEdit(name=name, changes=(Change(old=tuple(old), new=tuple(new)),)))
        elif part is not None:
            (old if part == "old" else new).append(row)
        elif row.strip() and not row.strip().startswith("```"):
            before = row
    return tuple(edits)


def apply_changes(original: str, changes: tuple[Change, ...]) -> Patched:
    """Put changes into a file, one after the other; when one does not fit, none is put in.

    A change fits cleanly where its old lines stand exactly; with fuzz where they stand but for white space
    at line ends, or but for the indentation of the whole, or after up to ``MAX_FUZZ`` lines of context
    at either end are given up.

    Parameters
    ----------
    original : str
        The file as it was given.
    changes : tuple of Change
        In the order of the reply.
    """
    lines = original.split("\n")
    remarks: list[str] = []
    fit, shift = Fit.CLEAN, 0
    for number, change in enumerate(changes, 1):
        place = _place(lines, change, shift)
        if place is None:
            said = f"change {number} of {len(changes)} fits nowhere in the file"
            return Patched(text=original, fit=Fit.NONE, remarks=(said,))
        if len(lines) > MOST_LINES:
            return Patched(text=original, fit=Fit.NONE, remarks=(f"the file grows beyond {MOST_LINES:,} lines",))
        at, length, new, how = place
        if how:
            fit = Fit.FUZZ
            remarks.append(f"change {number}: {how}")
        if change.miscounted:
            remarks.append(f"change {number}: its line counts are wrong; they were not relied on")
        lines[at : at + length] = new
        shift += len(new) - length
    return Patched(text="\n".join(lines), fit=fit, remarks=tuple(remarks))


def _place(lines: list[str], change: Change, shift: int) -> tuple[int, int, list[str], str] | None:
    """Where a change fits: line, length, the new lines, and what had to be overlooked."""
    near = (change.line or 1) - 1 + shift
    if not change.old:  # nothing to look for: an addition at the line it names, or at the end
        at = min(max(near + (change.line is not None), 0), len(lines)) if change.line is not None else len(lines)
        return at, 0, list(change.new), ""
    for how, old, new in _looser(change):
        key = _KEYS[how]
        wanted = [key(row) for row in old]
        places = _occurrences([key(row) for row in lines], wanted)
        if not places:
            continue
        at = min(places, key=lambda place: abs(place - near))
        said = {"": "", "ends": "white space at line ends differs", "indentation": "indentation differs"}[how]
        if len(old) < len(change.old):
            said = f"{len(change.old) - len(old)} lines of context given up" + (f", {said}" if said else "")
        put = _reindented(old, new, lines[at : at + len(old)]) if how == "indentation" else new
        return at, len(old), put, said
    return None


_KEYS: dict[str, Callable[[str], str]] = {"": str, "ends": str.rstrip, "indentation": str.strip}


def _looser(change: Change) -> list[tuple[str, list[str], list[str]]]:
    """The change from strict to loose: the comparison, the old lines and the new lines."""
    tries = []
    for fuzz in range(MAX_FUZZ + 1):
        lead, trail = min(fuzz, change.lead), min(fuzz, change.trail)
        if fuzz and (lead, trail) == (min(fuzz - 1, change.lead), min(fuzz - 1, change.trail)):
            break
        old = list(change.old[lead : len(change.old) - trail])
        new = list(change.new[lead : len(change.new) - trail])
        if not any(row.strip() for row in old):
            break  # what is left would fit anywhere
        tries += [(how, old, new) for how in ("", "ends", "indentation")]
    return tries


def _occurrences(lines: list[str], wanted: list[str]) -> list[int]:
    first = wanted[0]
    return [
        at
        for at in range(len(lines) - len(wanted) + 1)
        if lines[at] == first and lines[at : at + len(wanted)] == wanted
    ]


def _reindented(old: list[str], new: list[str], standing: list[str]) -> list[str]:
    """New lines moved by as much as the old ones are off."""
    pairs = [(o, s) for o, s in zip(old, standing, strict=True) if o.strip()]
    wrong, right = (row[: len(row) - len(row.lstrip())] for row in pairs[0])
    return [right + row[len(wrong) :] if row.startswith(wrong) and row.strip() else row for row in new]


def lines_changed_outside(original: str, changed: str, regions: tuple[tuple[int, int], ...]) -> int:
    """How many lines of a file were changed, removed or added outside the lines that an edit was asked for.

    Lines that differ only in white space at their end count as unchanged; an addition is outside when
    it touches no region.

    Parameters
    ----------
    original, changed : str
        The file before and after.
    regions : tuple of (int, int)
        First and last line of each region of the original, counted from 1.
    """
    before = [row.rstrip() for row in original.rstrip().split("\n")]
    after = [row.rstrip() for row in changed.rstrip().split("\n")]
    outside = 0
    matcher = difflib.SequenceMatcher(a=before, b=after, autojunk=False)
    for kind, low, high, new_low, new_high in matcher.get_opcodes():
        if kind == "equal":
            continue
        # line numbers from 1; an addition touches the lines on both its sides
        touched = range(low + 1, high + 1) if high > low else range(low, low + 2)
        inside = sum(any(first <= number <= last for first, last in regions) for number in touched)
        if not inside:
            outside += max(high - low, new_high - new_low)
        elif high > low:
            outside += (high - low) - inside
    return outside


_DIFF_START = re.compile(r"^(?:--- [^\n]+\n\+\+\+ |@@+ -\d)", re.MULTILINE)
_PAIR_START = re.compile(r"^[ \t]*<{5,9}[ \t]*(?:SEARCH|ORIGINAL|OLD|HEAD)?[ \t]*$", re.IGNORECASE | re.MULTILINE)


def apply_edits(text: str, blocks: tuple[Block, ...], wanted: Wanted) -> Answer | None:
    """The given files after the reply's edits; None when it holds no edit, so that a whole file is looked for."""
    sources = [block.text for block in blocks if tag_of(block) in {"diff", "patch"} or _DIFF_START.search(block.text)]
    if not blocks and _DIFF_START.search(text):
        sources = [text]
    edits = [edit for source in sources for edit in parse_diff(source)]
    form = "a diff"
    if not edits and _PAIR_START.search(text):
        # the line that names a pair's file may stand outside its fence, so the reply is read as a whole
        edits, form = list(parse_pairs(text)), "search/replace pairs"
    if not edits:
        return None
    files, remarks, worst = dict(wanted.given), [], Fit.CLEAN
    for edit in edits:
        name = _edited_file(edit, wanted)
        if name is None or not (name in files or edit.is_new):
            remarks.append(
                f"an edit of {visible(edit.name or '', keep_lines=False)!r}, which was not given, is left out"
            )
            continue
        if name not in files:
            files[name] = edit.new_text
            remarks.append(f"{name}: a new file")
            continue
        patched = apply_changes(files[name], edit.changes)
        if patched.fit is Fit.NONE:
            return Answer(files={}, how=f"{form} that {Fit.NONE}: {name}: {patched.remarks[0]}")
        files[name] = patched.text
        worst = Fit.FUZZ if Fit.FUZZ in {worst, patched.fit} else worst
        remarks += [f"{name}: {remark}" for remark in patched.remarks]
    if files == dict(wanted.given):
        return Answer(files={}, how=f"{form} that changes nothing that was given")
    if wanted.file not in files:
        return Answer(files={}, how=f"{form} that leaves out {wanted.file}", remarks=tuple(remarks))
    return Answer(files=main_first(files, wanted.file), how=f"{form}, {worst}", remarks=tuple(remarks))


def _edited_file(edit: FileEdit, wanted: Wanted) -> str | None:
    if edit.name is None:
        return wanted.file if wanted.file in wanted.given else next(iter(wanted.given), None)
    asked = (*wanted.given, wanted.file, *wanted.others)
    if edit.name in asked:
        return edit.name
    base = PurePosixPath(edit.name).name
    near = [name for name in dict.fromkeys(asked) if PurePosixPath(name).name == base]
    if len(near) == 1:
        return near[0]
    return next(iter(wanted.given)) if len(wanted.given) == 1 and not edit.is_new else None
