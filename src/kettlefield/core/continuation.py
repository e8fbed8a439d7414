"""Where a continuation must end: a model that only continues runs on past what was asked for.

The asked-for unit - the function or class that the opening leaves open - ends by the language's own
structure. Python is parsed where it parses; else indentation decides. Other languages end where the braces
that were open are closed, SQL at its semicolon.
"""

import ast
import re

from kettlefield.core.masking import blanked

_BRACED = frozenset({"javascript", "c", "cpp", "rust", "java", "go"})


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


def _cut_python(opening: str, continuation: str) -> str:
    whole = opening + continuation
    begun = opening.count("\n")  # index of the line in which the continuation starts
    lines = whole.split("\n")
    try:
        body = ast.parse(whole).body
    except (SyntaxError, ValueError, RecursionError, MemoryError):
        end = _end_by_indent(lines, begun)
    else:
        # the statement that the opening left open, or the first that follows it
        unit = next((node for node in body if (node.end_lineno or 0) > begun), None)
        end = (unit.end_lineno or len(lines)) if unit is not None else len(lines)
    kept = "\n".join(lines[:end])
    return kept[len(opening) :] + ("\n" if end < len(lines) else "")


_BLOCK = re.compile(r"\s*(?:async\s+def|def|class)\b")


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
    for at, ch in enumerate(plain):
        if ch == "{":
            depth += 1
        elif ch == "}":
            depth -= 1
            if depth <= 0 and at >= start:
                return _with_rest_of_line(continuation, at + 1 - start)
    return continuation


def _with_rest_of_line(text: str, end: int) -> str:
    """The text up to ``end``, with what closes a statement right behind it: ``};`` or ``})``."""
    tail = re.match(r"[)\];,]*", text[end:])
    return text[: end + (tail.end() if tail else 0)] + "\n"


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
    """The text up to the first of some stop strings."""
    ends = [at for stop in stops if stop and (at := text.find(stop)) >= 0]
    return text[: min(ends)] if ends else text
