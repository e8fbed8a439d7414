"""Replies that continue a given text or fill a gap in it, and where such a continuation must end.

The asked-for unit - the function or class that the opening leaves open - ends by the language's own
structure. Python is parsed where it parses; else indentation decides. Other languages end where the braces
that were open are closed, SQL at its semicolon.
"""

import ast
import re

from kettlefield.core.extraction.choosing import defines
from kettlefield.core.extraction.code_text import (
    MOST_CHARS,
    blanked,
    parse,
    parses,
    units,
    whole_statements,
    without_comments,
)
from kettlefield.core.extraction.syntax import Syntax
from kettlefield.core.extraction.wanted import Answer, Gap, Wanted

_BRACES = re.compile(r"[{}]")
_STATEMENT_END = re.compile(r"[)\];,]*")


def cut_continuation(opening: str, continuation: str, language: Syntax | None) -> str:
    """The part of a continuation that belongs to the unit which the opening began.

    Parameters
    ----------
    opening : str
        The code that was given; its last statement may be unfinished.
    continuation : str
        What the model wrote after it.
    language : Syntax or None
        For an unknown one nothing is cut.
    """
    structure = language.structure if language is not None else ""
    if language is None or not structure:
        return continuation
    if structure == "tree":
        return _cut_python(opening, continuation)
    if structure == "braces":
        return _cut_braced(opening, continuation, language)
    if structure == "closing line":
        return _cut_bash(opening, continuation)
    if structure == "semicolon":
        return _cut_at_semicolon(opening, continuation, language)
    return continuation


def without_half_written(text: str, language: Syntax | None, entry: str | None) -> str | None:
    """A program that was cut off, without the unit that is half-written at its end; None: nothing can be left out.

    Parameters
    ----------
    text : str
        A block that never ended.
    language : Syntax or None
        For an unknown one nothing is left out.
    entry : str or None
        What was asked for: it must be in what is kept.
    """
    if len(text) > MOST_CHARS or language is None:
        return None
    if language.structure == "tree":
        kept = None if parses(text) else whole_statements(text)
    elif language.structure == "braces" and text.strip():
        plain, depth, end = blanked(text, language), 0, 0
        for match in _BRACES.finditer(plain):
            depth += 1 if match[0] == "{" else -1
            if depth == 0:
                end = match.end()
        kept = text[:end] if depth > 0 and end else None
    else:
        return None
    if kept is None or not kept.strip() or (entry is not None and not defines(kept, entry)):
        return None
    return kept.rstrip("\n") + "\n"


def _cut_python(opening: str, continuation: str) -> str:
    whole = opening + continuation
    begun = opening.count("\n")  # index of the line in which the continuation starts
    lines = whole.split("\n")
    tree = parse(whole)
    if not isinstance(tree, ast.Module) and (kept := whole_statements(whole)) is not None and kept.count("\n") >= begun:
        tree = parse(kept)  # what runs on is half-written
    if not isinstance(tree, ast.Module):
        end = _end_by_indent(lines, begun)
    else:
        # the statement that the opening left open, or the first that follows it
        unit = next((node for node in tree.body if (node.end_lineno or 0) > begun), None)
        end = (unit.end_lineno or len(lines)) if unit is not None else len(lines)
    kept = "\n".join(lines[:end])
    return kept[len(opening) :] + ("\n" if end < len(lines) else "")


_BLOCK = re.compile(r"[ \t]*(?:async[ \t]+def|def|class)\b")


def _end_by_indent(lines: list[str], begun: int) -> int:
    """Number of the line after the block that is open at ``begun``: the first that is not indented any more."""
    opener = next((n for n in range(min(begun, len(lines) - 1), -1, -1) if _BLOCK.match(lines[n])), None)
    if opener is None or (lines[opener][:1].isspace() and not lines[0][:1].isspace()):
        # a method: its class is the unit
        opener = next((n for n in range(begun, -1, -1) if _BLOCK.match(lines[n]) and not lines[n][:1].isspace()), None)
    if opener is None:
        return len(lines)
    for number in range(max(opener + 1, begun), len(lines)):
        row = lines[number]
        if row.strip() and not row[0].isspace() and row[0] not in ")]}#" and number > begun:
            return number
    return len(lines)


def _cut_braced(opening: str, continuation: str, language: Syntax) -> str:
    plain = blanked(opening + continuation, language)
    start, depth = len(opening), 0
    for match in _BRACES.finditer(plain):
        depth += 1 if match[0] == "{" else -1
        if match[0] == "}" and depth <= 0 and match.start() >= start:
            return _with_rest_of_line(continuation, match.end() - start)
    return continuation


def _with_rest_of_line(text: str, end: int) -> str:
    """The text up to ``end``, with what closes a statement right behind it: ``};`` or ``})``."""
    tail = _STATEMENT_END.match(text, end)
    return text[: tail.end() if tail else end] + "\n"


def _cut_bash(opening: str, continuation: str) -> str:
    open_function = re.search(r"^\w+\s*\(\)\s*\{[^\n]*$(?!.*^\})", opening, re.MULTILINE | re.DOTALL)
    end = re.search(r"^\}[^\n]*$", continuation, re.MULTILINE)
    if open_function is None or end is None:
        return continuation
    return continuation[: end.end()] + "\n"


def _cut_at_semicolon(opening: str, continuation: str, language: Syntax) -> str:
    at = blanked(opening + continuation, language).find(";", len(opening))
    return continuation if at < 0 else continuation[: at + 1 - len(opening)] + "\n"


def cut_at_stops(text: str, stops: tuple[str, ...]) -> str:
    """The text up to the first of some stop strings; those that it begins with are skipped."""
    while (mark := next((stop for stop in stops if stop and text.lstrip().startswith(stop)), None)) is not None:
        text = text.lstrip()[len(mark) :]
    ends = [at for stop in stops if stop and (at := text.find(stop)) >= 0]
    return text[: min(ends)] if ends else text


SAME_WORDS = 4  # a block that begins with as many words of the opening begins as it does
REPEATED_CHARS = 8  # a line this long that stands in the closing is a repetition, not a coincidence


def continue_opening(text: str, wanted: Wanted, gap: Gap, language: Syntax | None) -> Answer:
    """The opening with what carries it on, cut where the asked-for code ends or the closing begins again."""
    kept = _before_closing(text, gap) if gap.closing else cut_continuation(gap.opening, text, language)
    remarks = ("what ran on past the asked-for code was cut",) if len(kept.rstrip()) < len(text.rstrip()) else ()
    if not kept.strip():
        return Answer(files={}, how="nothing was written after the opening")
    whole = gap.opening + (_joined(kept, gap.closing) if gap.closing else kept)
    files = {wanted.file: whole if whole.endswith("\n") else whole + "\n"}
    return Answer(files=files, how="the opening and its continuation", remarks=remarks)


def put_in_gap(text: str, gap: Gap, entry: str | None, language: Syntax | None) -> tuple[str, str]:
    """A block as the whole file, and a remark: as it is when it repeats what was given, else put between the ends."""
    if (entry is not None and defines(text, entry)) or (language is not None and _repeats_opening(text, gap, language)):
        return text, ""
    head = gap.opening
    if text.startswith((" ", "\t")):
        # the block brings the indentation that the opening's last line already holds, or starts a line of its own
        held = re.search(r"(?:\A|\n)([ \t]*)\Z", head)
        head = head[: held.start(1)] if held is not None else head + "\n"
    return head + _joined(
        _before_closing(text, gap), gap.closing
    ), "only the missing part was written: put into its gap"


def _repeats_opening(text: str, gap: Gap, language: Syntax) -> bool:
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
    same = min(SAME_WORDS, len(opening))
    return same > 1 and words[:same] == opening[:same]


def _code_rows(text: str, language: Syntax) -> list[str]:
    plain = without_comments(text, language)
    rows = [" ".join(row.split()) for row in (plain.lower() if language.folds_case else plain).split("\n")]
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
