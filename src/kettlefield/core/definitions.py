"""What a piece of code defines and what it uses, as far as plain text tells: to see which blocks belong together."""

import ast
import re
from functools import cache

from kettlefield.core.masking import blanked
from kettlefield.core.pythontext import MOST_CHARS, parse, parses

_WORD = re.compile(r"[A-Za-z_$][\w$]*")
# functions, types and the like that stand at the left margin; in a name's group, whichever it is
_UNITS = {
    "python": r"^(?:async[ \t]+)?(?:def|class)[ \t]+(\w+)",
    "javascript": r"^(?:export[ \t]+)?(?:default[ \t]+)?(?:async[ \t]+)?(?:function[ \t]*\*?|class)[ \t]*([\w$]+)"
    r"|^(?:export[ \t]+)?(?:const|let|var)[ \t]+([\w$]+)[ \t]*=[ \t]*(?:async\b|function\b|\(|[\w$]+[ \t]*=>)",
    "c": r"^(?!return\b|else\b|typedef\b)[A-Za-z_][\w \t*:<>,&]{0,200}?\b(\w+)[ \t]*\([^;{}()]{0,400}\)\s{0,20}\{"
    r"|^(?:typedef[ \t]+)?(?:struct|union|enum)[ \t]+(\w+)[ \t]*\{|^#[ \t]*define[ \t]+(\w+)",
    "rust": r"^(?:pub(?:\([^)\n]{0,80}\))?[ \t]+)?(?:async[ \t]+)?(?:fn|struct|enum|trait|type)[ \t]+(\w+)",
    "go": r"^(?:func|type)[ \t]+(?:\([^)\n]{0,200}\)[ \t]*)?(\w+)",
    "java": r"^(?:(?:public|final|abstract|sealed)[ \t]+)*(?:class|interface|enum|record)[ \t]+(\w+)",
    "bash": r"^(?:function[ \t]+)?([\w-]+)[ \t]*\(\)",
    "sql": r"^create[ \t]+(?:temp[ \t]+|temporary[ \t]+)?(?:table|view|index|trigger)[ \t]+(\w+)",
}
_UNITS["cpp"] = _UNITS["c"] + r"|^(?:template[^\n]{0,200}\n)?(?:class|struct)[ \t]+(\w+)"
# names that other lines bring in: values, constants, imports
_VALUES = {
    "javascript": r"^(?:export[ \t]+)?(?:const|let|var)[ \t]+([\w$]+)|^import[ \t]+([^;\n]{1,300})"
    r"|^const[ \t]*(\{[^}\n]{1,300}\})",
    "c": r"^(?:static[ \t]+|const[ \t]+)+[\w \t*]{1,100}?\b(\w+)[ \t]*(?:\[[^\]\n]{0,40}\])?[ \t]*=",
    "rust": r"^(?:pub[ \t]+)?(?:const|static)[ \t]+(\w+)|^use[ \t]+([^;]{1,300});",
    "go": r"^(?:var|const)[ \t]+(\w+)",
    "bash": r"^(?:declare[ \t]+-\w+[ \t]+)?(\w+)=",
}
_VALUES["cpp"] = _VALUES["c"]
# what a whole file has at its head, and a piece of one may lack
_HEADS = {"c": "#include", "cpp": "#include", "go": "package "}
_MAIN = {
    **dict.fromkeys(("c", "cpp"), re.compile(r"\bmain\s{0,20}\(")),
    "rust": re.compile(r"\bfn[ \t]+main\b"),
    "go": re.compile(r"\bfunc[ \t]+main\b"),
    "java": re.compile(r"\bstatic[ \t]+void[ \t]+main\b"),
}
_BRACED = frozenset({"javascript", "c", "cpp", "rust", "java", "go"})


def units(text: str, language: str) -> frozenset[str]:
    """Names of the functions and types that a text defines at its margin."""
    return frozenset(_names(_UNITS.get(language), text))


def definitions(text: str, language: str) -> frozenset[str]:
    """Every name that a text brings to others: units, values and imports; for C, C++ and Go also the file's head."""
    if language == "python":
        tree = parse(text)
        if isinstance(tree, ast.Module):
            return frozenset(name for node in tree.body for name in _bound(node))
    head = _HEADS.get(language)
    heads = {head.strip()} if head is not None and re.search(rf"^{head}", text, re.MULTILINE) else set()
    return units(text, language) | heads | frozenset(_names(_VALUES.get(language), text))


def missing(text: str, language: str) -> frozenset[str]:
    """Names that a text uses and does not define: a superset of those that it needs from elsewhere."""
    if language == "python":
        tree = parse(text)
        if isinstance(tree, ast.Module):
            return _free_names(tree)
    head = _HEADS.get(language)
    words = set(_WORD.findall(blanked(text[:MOST_CHARS], language))) | ({head.strip()} if head is not None else set())
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


def is_whole(text: str, language: str) -> bool:
    """Whether a text is complete as far as its syntax tells."""
    if language == "python":
        return parses(text)
    if language not in _BRACED:
        return True
    plain = blanked(text[:MOST_CHARS], language)
    return len(text) <= MOST_CHARS and plain.count("{") == plain.count("}")


def can_run(text: str, language: str) -> bool:
    """Whether a text does something by itself: a main function, or for scripts a statement that is no definition."""
    if language in _MAIN:
        return _MAIN[language].search(text) is not None
    if language != "python":
        return True
    tree = parse(text)
    kept = (ast.FunctionDef, ast.AsyncFunctionDef, ast.ClassDef, ast.Import, ast.ImportFrom, ast.Assign, ast.AnnAssign)
    return not isinstance(tree, ast.Module) or any(not isinstance(node, kept) for node in tree.body[1:] or tree.body)


@cache
def _compiled(pattern: str) -> "re.Pattern[str]":
    return re.compile(pattern, re.MULTILINE | re.IGNORECASE if pattern == _UNITS["sql"] else re.MULTILINE)


def _names(pattern: str | None, text: str) -> set[str]:
    if pattern is None:
        return set()
    return {
        word
        for match in _compiled(pattern).finditer(text[:MOST_CHARS])
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
