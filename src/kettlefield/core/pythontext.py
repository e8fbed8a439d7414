"""Python in replies: does it parse, and how much of it is whole?"""

import ast
import re
import warnings

MOST_CHARS = 100_000  # the parser takes a second for more than a few times that; no answer is so long
MOST_CUTS = 20  # closing prose or a half-written end is found in one or two; the bound keeps hostile text cheap
_GOES_ON = re.compile(r"[\s)\]}#]|(?:else|elif|except|finally|case)\b")  # a line that belongs to the statement above it
# deeper nesting is no program, and the parser takes seconds to refuse it
_MOST_NESTED = 100
_BRACKETS = re.compile(r"[(\[{]|[)\]}]")


def parse(text: str) -> ast.Module | SyntaxError:
    """The syntax tree, or why there is none; whatever the text holds, nothing else is raised or printed."""
    if len(text) > MOST_CHARS or _is_nested_too_deeply(text):
        return SyntaxError("too long, or nested too deeply, for a program of a reply")
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            return ast.parse(text)
    except SyntaxError as err:
        return err
    except (ValueError, RecursionError, MemoryError) as err:
        return SyntaxError(str(err))


def parses(text: str) -> bool:
    """Whether a text is a Python program."""
    return isinstance(parse(text), ast.Module)


def whole_statements(text: str) -> str | None:
    """The longest beginning of a text that parses and ends with a statement; None when there is none.

    What follows - prose, or a definition that was cut off - is left out.
    """
    if len(text) > MOST_CHARS:
        return None
    lines = text.split("\n")
    for _ in range(MOST_CUTS):
        tree = parse("\n".join(lines))
        if isinstance(tree, ast.Module):
            return "\n".join(lines) if tree.body else None
        cut = min((tree.lineno or len(lines)) - 1, len(lines) - 1)
        while cut > 0 and (not lines[cut].strip() or _GOES_ON.match(lines[cut]) or lines[cut - 1].startswith("@")):
            cut -= 1
        if cut <= 0:
            return None
        lines = lines[:cut]
    return None


def _is_nested_too_deeply(text: str) -> bool:
    depth = 0
    for match in _BRACKETS.finditer(text):
        depth = depth + 1 if match[0] in "([{" else max(0, depth - 1)
        if depth > _MOST_NESTED:
            return True
    return False
