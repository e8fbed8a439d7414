"""Checks of how a Python answer is built, by its syntax tree: what it defines, what calls what, how long it is."""

import ast
from collections.abc import Iterable, Iterator

import msgspec

from kettlefield.core.extraction.code_text import parse
from kettlefield.core.outcome import CheckResult, RunEnd
from kettlefield.core.plaintext import shorten
from kettlefield.grading.checks.kind import Bench, CheckKind
from kettlefield.grading.results import DETAIL_LIMIT, Finding, make_result
from kettlefield.suite.format import Check, Exercise

Function = ast.FunctionDef | ast.AsyncFunctionDef
Tree = ast.Module | ast.ClassDef | Function


class StructureCheck(Check, frozen=True, kw_only=True, tag_field="kind", tag="structure"):
    """What the syntax tree of a file must hold; a method is written ``Class.method``."""

    file: str
    defines: tuple[str, ...] = ()  # functions, classes, methods
    lacks: tuple[str, ...] = ()  # that must be gone
    parameters: dict[str, tuple[str, ...]] = msgspec.field(default_factory=dict)  # of a function: their names, in order
    calls: tuple[tuple[str, str], ...] = ()  # a function, and a name that it must call
    no_calls: tuple[tuple[str, str], ...] = ()
    # names that must not stand in a function, or "*" in the whole file
    no_names: dict[str, tuple[str, ...]] = msgspec.field(default_factory=dict)
    # of a function, its nested statements included; "*": of every one
    most_statements: dict[str, int] = msgspec.field(default_factory=dict)
    most_branches: dict[str, int] = msgspec.field(default_factory=dict)  # "if" and "elif" of a function


def _run(bench: Bench, check: StructureCheck) -> CheckResult:
    total = sum(1 for _ in _rules(check))
    text = bench.files.get(check.file)
    tree = parse(text) if text is not None else SyntaxError("it is not there")
    if isinstance(tree, SyntaxError):
        said = f"{check.file} has no syntax tree: {shorten(str(tree), DETAIL_LIMIT)}"
        return make_result(check, Finding(end=RunEnd.FINISHED, agreed=0, detail=said, feedback=said), total, 0.0)
    known = dict(_definitions(tree))
    faults = [fault for rule in _rules(check) if (fault := _broken(rule, tree, known))]
    said = "; ".join(faults)
    finding = Finding(end=RunEnd.FINISHED, agreed=total - len(faults), detail=said, feedback=said)
    return make_result(check, finding, total, 0.0)


Rule = tuple[str, str, object]  # what is asked, of what, and its value


def _rules(check: StructureCheck) -> Iterator[Rule]:
    yield from (("defines", name, None) for name in check.defines)
    yield from (("lacks", name, None) for name in check.lacks)
    yield from (("parameters", name, wanted) for name, wanted in check.parameters.items())
    yield from (("calls", caller, called) for caller, called in check.calls)
    yield from (("no_calls", caller, called) for caller, called in check.no_calls)
    yield from (("no_names", place, name) for place, names in check.no_names.items() for name in names)
    yield from (("most_statements", name, most) for name, most in check.most_statements.items())
    yield from (("most_branches", name, most) for name, most in check.most_branches.items())


def _broken(rule: Rule, tree: ast.Module, known: dict[str, ast.ClassDef | Function]) -> str:
    """Why a rule does not hold; empty when it does."""
    asked, name, value = rule
    if asked == "lacks":
        return f"{name} is still there" if name in known else ""
    if name != "*" and name not in known:
        return f"{name} is not defined"
    node: Tree = tree if name == "*" else known[name]
    if asked == "parameters":
        found = _parameters(node)
        return "" if found == value else f"{name} takes ({', '.join(found)}), not ({', '.join(value)})"  # type: ignore[arg-type]
    if asked == "calls":
        return "" if value in _called(node) else f"{name} does not call {value}"
    if asked == "no_calls":
        return f"{name} calls {value}" if value in _called(node) else ""
    if asked == "no_names":
        where = "the file" if name == "*" else name
        return f"{where} still uses {value}" if value in _names(node) else ""
    if asked == "most_statements":
        held = {name: node} if name != "*" else {n: f for n, f in known.items() if not isinstance(f, ast.ClassDef)}
        long = {n: size for n, f in held.items() if (size := _statements(f)) > int(str(value))}
        return "; ".join(f"{n} has {size} statements, at most {value} are wanted" for n, size in long.items())
    if asked == "most_branches":
        size = sum(isinstance(part, ast.If) for part in ast.walk(node))
        return f"{name} has {size} branches, at most {value} are wanted" if size > int(str(value)) else ""
    return ""


def _definitions(tree: ast.Module) -> Iterator[tuple[str, ast.ClassDef | Function]]:
    for node in tree.body:
        if isinstance(node, Function | ast.ClassDef):
            yield node.name, node
        if isinstance(node, ast.ClassDef):
            yield from ((f"{node.name}.{part.name}", part) for part in node.body if isinstance(part, Function))


def _parameters(node: Tree) -> tuple[str, ...]:
    if not isinstance(node, Function):
        return ()
    of = node.args
    rest = [one.arg for one in (of.vararg, *of.kwonlyargs, of.kwarg) if one is not None]
    return (*(one.arg for one in (*of.posonlyargs, *of.args)), *rest)


def _called(node: Tree) -> set[str]:
    """Names that are called: ``f`` of ``f()``, ``f`` and ``a.f`` of ``a.f()``."""
    names = set()
    for part in ast.walk(node):
        if isinstance(part, ast.Call):
            names |= _dotted(part.func)
    return names


def _names(node: Tree) -> set[str]:
    """Names and attributes that stand in it, and modules that it imports."""
    names = set()
    for part in ast.walk(node):
        if isinstance(part, ast.Name | ast.Attribute):
            names |= _dotted(part)
        elif isinstance(part, ast.Import | ast.ImportFrom):
            names |= {alias.name for alias in part.names} | ({part.module or ""} if hasattr(part, "module") else set())
    return names


def _dotted(node: ast.expr) -> set[str]:
    """The last name of ``a.b.c``, and the whole where it begins with a name; an answer may nest it to any depth."""
    parts = []
    while isinstance(node, ast.Attribute):
        parts.append(node.attr)
        node = node.value
    if isinstance(node, ast.Name):
        parts.append(node.id)
        return {parts[0], ".".join(reversed(parts))}
    return {parts[0]} if parts else set()


def _statements(node: Tree) -> int:
    """Statements in it, itself and its docstring left out."""
    parts = [part for part in ast.walk(node) if isinstance(part, ast.stmt) and part is not node]
    return len(parts) - (ast.get_docstring(node, clean=False) is not None)


def _faults(check: StructureCheck) -> Iterable[tuple[str, str]]:
    if not any(True for _ in _rules(check)):
        yield "asks for nothing", "Write at least one rule, such as defines."


def _unfair(_exercise: Exercise, check: StructureCheck, said: str) -> Iterable[str]:
    asked = {name.rpartition(".")[2] for _, name, _ in _rules(check)} | {called for _, called in check.calls}
    for name in sorted(asked - {"*"}):
        if name.rpartition(".")[2] not in said:
            yield f'the prompt never names "{name}"'


STRUCTURE = CheckKind(spec=StructureCheck, faults=_faults, run=_run, unfair=_unfair)
