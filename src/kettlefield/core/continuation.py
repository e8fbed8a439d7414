"""Where a continuation must end: a model that only continues runs on past what was asked for.

The asked-for unit - the function or class that the opening leaves open - ends by the language's own
structure. Python is parsed where it parses; else indentation decides. Other languages end where the braces
that were open are closed, SQL at its semicolon.
"""

import ast
import re

from kettlefield.core.choosing import defines
from kettlefield.core.masking import blanked
from kettlefield.core.pythontext import MOST_CHARS, parse, parses, whole_statements

_BRACED = frozenset({"javascript", "c", "cpp", "rust", "java", "go"})
_BRACES = re.compile(r"[{}]")
_STATEMENT_END = re.compile(r"[)\];,]*")


def cut_continuation(opening: str, continuation: str, language: str) -> str:
    """The part of a continuation that belongs to the unit which the opening began.

    Parameters
    ----------
    opening : str
        The code that was given; its last statement may be unfinished.
    continuation : str
        What the model wrote after it.
    language : str
        One of ours; for an unknown one nothing is cut.
    """
    if language == "python":
        return _cut_python(opening, continuation)
    if language in _BRACED:
        return _cut_braced(opening, continuation, language)
    if language == "bash":
        return _cut_bash(opening, continuation)
    if language == "sql":
        return _cut_at_semicolon(opening, continuation)
    return continuation


def without_half_written(text: str, language: str, entry: str | None) -> str | None:
    """A program that was cut off, without the unit that is half-written at its end; None: nothing can be left out.

    Parameters
    ----------
    text : str
        A block that never ended.
    language : str
        One of ours.
    entry : str or None
        What was asked for: it must be in what is kept.
    """
    if len(text) > MOST_CHARS:
        return None
    if language == "python":
        kept = None if parses(text) else whole_statements(text)
    elif language in _BRACED and text.strip():
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


def _cut_braced(opening: str, continuation: str, language: str) -> str:
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


def _cut_at_semicolon(opening: str, continuation: str) -> str:
    at = blanked(opening + continuation, "sql").find(";", len(opening))
    return continuation if at < 0 else continuation[: at + 1 - len(opening)] + "\n"


def cut_at_stops(text: str, stops: tuple[str, ...]) -> str:
    """The text up to the first of some stop strings; those that it begins with are skipped."""
    while (mark := next((stop for stop in stops if stop and text.lstrip().startswith(stop)), None)) is not None:
        text = text.lstrip()[len(mark) :]
    ends = [at for stop in stops if stop and (at := text.find(stop)) >= 0]
    return text[: min(ends)] if ends else text
