"""Code as text: what it defines and uses, its strings and comments masked, how similar two pieces are."""

import ast
import re
import warnings
from collections.abc import Mapping

from kettlefield.core.extraction.syntax import Syntax

MOST_CHARS = 100_000  # the parser takes a second for more than a few times that; no answer is so long
MOST_CUTS = 20  # closing prose or a half-written end is found in one or two; the bound keeps hostile text cheap
_GOES_ON = re.compile(r"[\s)\]}#]|(?:else|elif|except|finally|case)\b")  # a line that belongs to the statement above it
# deeper nesting is not a program, and the parser takes seconds to refuse it
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


def without_comments(text: str, language: Syntax) -> str:
    """The text with its comments turned to spaces; strings stay."""
    marks = language.comments
    if language.skipped is None:
        return text
    return language.skipped.sub(lambda match: " " * len(match[0]) if match[0].startswith(marks) else match[0], text)


def blanked(text: str, language: Syntax) -> str:
    """The text with strings and comments turned to spaces, every other character in its place."""
    return text if language.skipped is None else language.skipped.sub(lambda match: " " * len(match[0]), text)


_WORD = re.compile(r"[A-Za-z_$][\w$]*")


def units(text: str, language: Syntax) -> frozenset[str]:
    """Names of the functions and types that a text defines at its margin."""
    return frozenset(_names(language.units, text))


def definitions(text: str, language: Syntax) -> frozenset[str]:
    """Every name that a text brings to others: units, values and imports; for C, C++ and Go also the file's head."""
    if language.structure == "tree":
        tree = parse(text)
        if isinstance(tree, ast.Module):
            return frozenset(name for node in tree.body for name in _bound(node))
    head = language.head
    heads = {head.strip()} if head and re.search(rf"^{re.escape(head)}", text, re.MULTILINE) else set()
    return units(text, language) | heads | frozenset(_names(language.values, text))


def missing(text: str, language: Syntax) -> frozenset[str]:
    """Names that a text uses and does not define: a superset of those that it needs from elsewhere."""
    if language.structure == "tree":
        tree = parse(text)
        if isinstance(tree, ast.Module):
            return _free_names(tree)
    words = set(_WORD.findall(blanked(text[:MOST_CHARS], language)))
    words |= {language.head.strip()} if language.head else set()
    return frozenset(words - definitions(text, language))


def _free_names(tree: ast.Module) -> frozenset[str]:
    """Names that a program reads and binds nowhere: neither assigns, imports or defines, nor takes as an argument."""
    read: set[str] = set()
    bound: set[str] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Name):
            (read if isinstance(node.ctx, ast.Load) else bound).add(node.id)
        elif isinstance(node, ast.arg):
            bound.add(node.arg)
        elif isinstance(node, ast.stmt):
            bound.update(_bound(node))
    return frozenset(read - bound)


def is_whole(text: str, language: Syntax) -> bool:
    """Whether a text is complete as far as its syntax tells."""
    if language.structure == "tree":
        return parses(text)
    if language.structure != "braces":
        return True
    plain = blanked(text[:MOST_CHARS], language)
    return len(text) <= MOST_CHARS and plain.count("{") == plain.count("}")


def can_run(text: str, language: Syntax) -> bool:
    """Whether a text does something by itself: a main function, or for scripts a statement that is not a definition."""
    if language.main is not None:
        return language.main.search(text) is not None
    if language.structure != "tree":
        return True
    tree = parse(text)
    kept = (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef, ast.Import, ast.ImportFrom, ast.Assign, ast.AnnAssign)
    return not isinstance(tree, ast.Module) or any(not isinstance(node, kept) for node in tree.body[1:] or tree.body)


def _names(pattern: re.Pattern[str] | None, text: str) -> set[str]:
    if pattern is None:
        return set()
    return {
        word
        for match in pattern.finditer(text[:MOST_CHARS])
        for group in match.groups()
        if group
        for word in _WORD.findall(group)
    }


def _bound(node: ast.stmt) -> list[str]:
    if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef):
        return [node.name]
    if isinstance(node, ast.Import | ast.ImportFrom):
        return [(alias.asname or alias.name).split(".")[0] for alias in node.names]
    targets = node.targets if isinstance(node, ast.Assign) else [node.target] if isinstance(node, ast.AnnAssign) else []
    return [name.id for target in targets for name in ast.walk(target) if isinstance(name, ast.Name)]


_SPACE = re.compile(r"\s+")


def first_difference(one: str, other: str) -> int | None:
    """How many characters two texts share before they part; None where they are the same."""
    if one == other:
        return None
    at = next((index for index, (a, b) in enumerate(zip(one, other, strict=False)) if a != b), None)
    return min(len(one), len(other)) if at is None else at


def same_code(one: Mapping[str, str], other: Mapping[str, str]) -> bool:
    """Whether two answers hold the same files, layout apart.

    Python is compared as what it parses to, so that comments, quotes and line breaks do not count; anything
    else, and Python that does not parse, with its white space folded.

    Parameters
    ----------
    one, other : mapping of str to str
        File name to text.
    """
    return one.keys() == other.keys() and all(_same_file(name, one[name], other[name]) for name in one)


def _same_file(name: str, one: str, other: str) -> bool:
    if one == other:
        return True
    if name.endswith(".py"):
        parsed = [_parsed(text) for text in (one, other)]
        if None not in parsed:
            return parsed[0] == parsed[1]
    return _SPACE.sub(" ", one).strip() == _SPACE.sub(" ", other).strip()


def _parsed(text: str) -> str | None:
    tree = parse(text)
    return ast.dump(tree) if isinstance(tree, ast.Module) else None
