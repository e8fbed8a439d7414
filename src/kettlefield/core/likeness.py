"""How far two replies are the same: to the letter, up to where, and as code whatever its layout."""

import ast
import re
from collections.abc import Mapping

from kettlefield.core.pythontext import parse

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
