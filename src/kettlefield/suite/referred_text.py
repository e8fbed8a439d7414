"""The long text of an exercise of kind ``refer``: what of it is shown, and where the needed sections stand."""

import re
from collections.abc import Sequence
from pathlib import Path

from kettlefield.core.errors import InputError
from kettlefield.core.plaintext import is_safe_name
from kettlefield.suite.check_form import TextReader
from kettlefield.suite.format import TEXTS, ReferredText, ReferTable

_FENCE = re.compile(r"^(?P<fence>```+|~~~+).*?^(?P=fence)[^\S\n]*$", re.MULTILINE | re.DOTALL)
_HEADING = re.compile(r"^(#{1,6}) .*$", re.MULTILINE)


def read_referred(table: ReferTable, folder: Path, read: TextReader) -> ReferredText:
    """The text without what is left out, and the places of the needed sections.

    Parameters
    ----------
    table : ReferTable
        As the exercise has it.
    folder : Path
        The exercise's folder; its suite's folder holds ``texts``.
    read : TextReader
        Fills in parameters.

    Raises
    ------
    InputError
        There is no such text, or a heading that is named does not stand in it once.
    """
    where = f"{folder / 'exercise.toml'} [refer]"
    for name in (table.text, table.library or table.text):
        if not is_safe_name(name):
            raise InputError(f"{name!r} leaves the folder {TEXTS}", where, "Name a file without a path.")
    if not table.needed:
        raise InputError("needs no section", where, "Write the headings of what the task needs under needed.")
    text = read.text(folder.parent / TEXTS / table.text).strip() + "\n"
    for heading in table.without:
        first, end = _section(text, heading, f"{where} without")
        text = text[:first] + text[end:]
    needed = {heading: _section(text, heading, f"{where} needed") for heading in table.needed}
    library = {} if table.library is None else {table.library: read.text(folder.parent / TEXTS / table.library)}
    return ReferredText(name=table.text, text=text, needed=needed, library=library)


def _section(text: str, heading: str, where: str) -> tuple[int, int]:
    """From a heading's line to the next heading of its level or a higher one."""
    headings = headings_of(text)
    at = [number for number, (_, line) in enumerate(headings) if line == heading.strip()]
    if len(at) != 1:
        what = f'the heading "{heading}" stands {len(at)} times in the text'
        raise InputError(what, where, "Write the whole line of a heading that stands there once, # signs included.")
    first, level = headings[at[0]][0], _level(heading.strip())
    later = (place for place, line in headings[at[0] + 1 :] if _level(line) <= level)
    return first, next(later, len(text))


def headings_of(text: str) -> Sequence[tuple[int, str]]:
    """First character and line of each heading; what stands in a block of code is none."""
    blanked = _FENCE.sub(lambda match: re.sub(r"[^\n]", " ", match[0]), text)
    return [(match.start(), match[0].strip()) for match in _HEADING.finditer(blanked)]


def _level(line: str) -> int:
    return len(line) - len(line.lstrip("#"))
