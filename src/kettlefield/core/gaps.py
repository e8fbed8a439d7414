"""What goes into a gap: the continuation of an opening, or a block that holds only the missing part."""

import re

from kettlefield.core.answer import Answer, AnswerFile, Gap, Wanted
from kettlefield.core.choosing import defines
from kettlefield.core.continuation import cut_continuation
from kettlefield.core.definitions import units
from kettlefield.core.masking import without_comments

ALIKE_WORDS = 4  # a block that begins with as many words of the opening begins as it does
REPEATED_CHARS = 8  # a line this long that stands in the closing is a repetition, not a coincidence


def continue_opening(text: str, wanted: Wanted, gap: Gap) -> Answer:
    """The opening with what carries it on, cut where the asked-for code ends or the closing begins again."""
    kept = _before_closing(text, gap) if gap.closing else cut_continuation(gap.opening, text, wanted.language)
    remarks = ("what ran on past the asked-for code was cut",) if len(kept.rstrip()) < len(text.rstrip()) else ()
    if not kept.strip():
        return Answer(files=(), how="nothing was written after the opening")
    whole = gap.opening + (_joined(kept, gap.closing) if gap.closing else kept)
    file = AnswerFile(name=wanted.file, text=whole if whole.endswith("\n") else whole + "\n")
    return Answer(files=(file,), how="the opening and its continuation", remarks=remarks)


def put_in_gap(text: str, gap: Gap, wanted: Wanted) -> tuple[str, str]:
    """A block as the whole file, and a remark: as it is when it repeats what was given, else put between the ends."""
    if (wanted.entry is not None and defines(text, wanted.entry)) or _repeats_opening(text, gap, wanted.language):
        return text, ""
    head = gap.opening
    if text.startswith((" ", "\t")):
        # the block brings the indentation that the opening's last line already holds, or starts a line of its own
        held = re.search(r"(?:\A|\n)([ \t]*)\Z", head)
        head = head[: held.start(1)] if held is not None else head + "\n"
    return head + _joined(
        _before_closing(text, gap), gap.closing
    ), "only the missing part was written: put into its gap"


def _repeats_opening(text: str, gap: Gap, language: str) -> bool:
    """Whether a block is the whole program: it says again, maybe in other words, what the opening says.

    It defines a function or type that the opening defines, or begins as the opening does; comments, white space
    and, in SQL, letters' case count for nothing.
    """
    if units(text, language) & units(gap.opening, language):
        return True
    rows, given = _code_rows(text, language), _code_rows(gap.opening, language)
    if not rows or not given:
        return False
    if given[0] in rows:
        return True
    words, opening = " ".join(rows).split(), " ".join(given).split()
    alike = min(ALIKE_WORDS, len(opening))
    return alike > 1 and words[:alike] == opening[:alike]


def _code_rows(text: str, language: str) -> list[str]:
    plain = without_comments(text, language)
    rows = [" ".join(row.split()) for row in (plain.lower() if language == "sql" else plain).split("\n")]
    return [row for row in rows if row]


def _before_closing(text: str, gap: Gap) -> str:
    """The text without a repetition of what follows the gap anyhow."""
    first = next((row.strip() for row in gap.closing.split("\n") if row.strip()), "")
    if len(first) < REPEATED_CHARS:
        return text
    rows = text.split("\n")
    again = next((index for index, row in enumerate(rows) if index and row.strip() == first), None)
    return text if again is None else "\n".join(rows[:again]) + "\n"


def _joined(text: str, closing: str) -> str:
    """A part and what follows it: a gap always ends with its line, so the closing starts a new one."""
    return text.rstrip() + "\n" + closing
