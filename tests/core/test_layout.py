"""The layout keeps its rules: imports run downward, names are used once, and the English is plain."""

import ast
import re
from collections import Counter
from pathlib import Path

import pytest

import kettlefield

SOURCE = Path(kettlefield.__file__).parent
# a room imports from those to its right and from itself; `registry` and the package's version are open to all
ROOMS = (
    *(
        "cli",
        "views",
        "fleet",
        "campaign",
        "plan",
        "decision",
        "marking",
        "results",
        "workspace",
        "measure",
        "grading",
        "record",
    ),
    *("server", "sandbox", "suite", "weights", "rig", "languages", "core"),
)
# words that stand for another one in the field's own language, or that no colleague would use
BANNED = re.compile(
    r"\b(foretold|foretells?|anew|whence|alike|mend|mended|heed|heeded|held against|hold against|stands without|"
    r"no other beats|could notice|on condition|knee|assessor|passes_in_k)\b",
    re.IGNORECASE,
)


def modules():
    """Every module of ours, suites aside: dotted name below the package, and its file."""
    for path in sorted(SOURCE.rglob("*.py")):
        parts = path.relative_to(SOURCE).with_suffix("").parts
        if parts[0] != "suites":
            yield ".".join(parts), path


def imports(path):
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.ImportFrom):
            yield node.module or ""
        elif isinstance(node, ast.Import):
            yield from (alias.name for alias in node.names)


def ours(path):
    return [
        name.removeprefix("kettlefield").strip(".") for name in imports(path) if name.split(".")[0] == "kettlefield"
    ]


def test_imports_run_downward_and_nothing_but_the_program_knows_the_demo():
    upward = []
    for name, path in modules():
        room = name.split(".")[0]
        for found in ours(path):
            other = found.split(".")[0]
            if room in ROOMS and other in ROOMS and ROOMS.index(other) < ROOMS.index(room):
                upward.append(f"{name} imports {found}")
            if other == "demo" and room not in {"demo", "cli"}:
                upward.append(f"{name} imports {found}")
    assert upward == []


def test_only_the_record_and_its_results_know_the_columns():
    knowing = [name for name, path in modules() if any(found.startswith("record.schema") for found in ours(path))]
    knowing += [name for name, path in modules() if "from kettlefield.record import schema" in path.read_text()]
    assert {name.split(".")[0] for name in knowing} == {"record", "results"}


def test_the_simulated_server_loads_only_what_it_serves_with():
    paths, left, seen = dict(modules()), ["demo.__main__"], set()
    while left:
        name = left.pop()
        if name in paths and name not in seen:
            seen.add(name)
            left += ours(paths[name])
    # it is started hundreds of times in a campaign of tests, and what these rooms load takes longer than the rest
    assert {name.split(".")[0] for name in seen} & {"cli", "views", "campaign", "plan", "decision", "results"} == set()


def test_modules_import_each_other_in_no_circle():
    names = {name.removesuffix(".__init__") for name, _ in modules()}
    graph = {name.removesuffix(".__init__"): [n for n in ours(path) if n in names] for name, path in modules()}
    done, under_way = set(), []

    def visit(name):
        assert name not in under_way, " > ".join([*under_way, name])
        if name not in done:
            under_way.append(name)
            for other in graph[name]:
                visit(other)
            under_way.pop()
            done.add(name)

    for name in graph:
        visit(name)


def test_core_imports_the_standard_library_numpy_scipy_and_itself_only():
    import sys

    # regex beside them: the standard library's patterns cannot be stopped when hostile text makes them explode;
    # msgspec: what a record is made with
    allowed = sys.stdlib_module_names | {"numpy", "scipy", "regex", "markdown_it", "msgspec"}
    for name, path in modules():
        if name.startswith("core."):
            for found in imports(path):
                assert found.split(".")[0] in allowed or found.startswith("kettlefield.core"), f"{name}: {found}"


def test_only_the_command_line_and_views_know_a_terminal():
    for name, path in modules():
        if name.split(".")[0] not in {"cli", "views", "demo"} and name != "measure.metronome":
            assert not {"argparse", "rich"} & {found.split(".")[0] for found in imports(path)}, name


def test_no_two_modules_share_a_name():
    leaves = Counter(name.rpartition(".")[2] for name, _ in modules())
    assert [name for name, count in leaves.items() if count > 1 and not name.startswith("__")] == []


ROOT = SOURCE.parents[1]
PAGES = [*(ROOT / "docs").rglob("*.md"), ROOT / "README.md"]


@pytest.mark.parametrize("path", [*(path for _, path in modules()), *(p for p in PAGES if p.is_file())], ids=str)
def test_the_english_is_plain(path):
    # names of the past stand where older files are read; the lists of exercises quote their own words
    if path.name in {"renames.py", "earlier.py", "format_7.py", "format_8.py", "berthdesk.md", "firstlight.md"}:
        return
    assert [
        f"{n}: {found[0]}" for n, line in enumerate(path.read_text().splitlines(), 1) for found in BANNED.finditer(line)
    ] == []
