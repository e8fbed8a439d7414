"""Code as text: what it defines and uses, its strings and comments masked, how similar two pieces are."""

import ast
import re
import warnings
from collections.abc import Mapping
from functools import cache

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


# an unclosed string or comment runs to the end, or to the end of its line
_C_LIKE = re.compile(
    r"//[^\n]*|/\*.*?(?:\*/|\Z)|\"(?:\\.|[^\"\\\n])*\"?|`(?:\\.|[^`\\])*`?|'(?:\\.|[^'\\\n])*'", re.DOTALL
)
_SKIPPED = {
    **dict.fromkeys(("javascript", "c", "cpp", "java", "go"), _C_LIKE),
    # a quote in Rust also opens a lifetime, so only a whole character literal is skipped
    "rust": re.compile(
        r"//[^\n]*|/\*.*?(?:\*/|\Z)|r(?P<n>#*)\".*?(?:\"(?P=n)|\Z)|\"(?:\\.|[^\"\\])*\"?|'(?:\\.[^']*|[^'\\\n])'",
        re.DOTALL,
    ),
    "sql": re.compile(r"--[^\n]*|/\*.*?(?:\*/|\Z)|'(?:''|[^'])*'?|\"(?:\"\"|[^\"])*\"?", re.DOTALL),
    "python": re.compile(
        r"#[^\n]*|\"\"\".*?(?:\"\"\"|\Z)|'''.*?(?:'''|\Z)|\"(?:\\.|[^\"\\\n])*\"?|'(?:\\.|[^'\\\n])*'?", re.DOTALL
    ),
    # in double quotes a shell still calculates, so only what is quoted singly is skipped
    "bash": re.compile(r"(?:(?<=\s)|(?<=^))#[^\n]*|'[^']*'?", re.DOTALL | re.MULTILINE),
}


# how each language's comments begin; what else is skipped is a string
_COMMENTS = {
    **dict.fromkeys(("javascript", "c", "cpp", "java", "go", "rust"), ("//", "/*")),
    "sql": ("--", "/*"),
    **dict.fromkeys(("python", "bash"), ("#",)),
}


def without_comments(text: str, language: str) -> str:
    """The text with its comments turned to spaces; strings stay."""
    pattern, marks = _SKIPPED.get(language), _COMMENTS.get(language, ())
    if pattern is None:
        return text
    return pattern.sub(lambda match: " " * len(match[0]) if match[0].startswith(marks) else match[0], text)


def blanked(text: str, language: str) -> str:
    """The text with strings and comments turned to spaces, every other character in its place."""
    pattern = _SKIPPED.get(language)
    return text if pattern is None else pattern.sub(lambda found: " " * len(found[0]), text)


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
    """Whether a text does something by itself: a main function, or for scripts a statement that is not a definition."""
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
