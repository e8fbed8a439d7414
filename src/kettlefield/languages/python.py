"""Python: run by the interpreter that we run in, its standard library and declared packages."""

import re
import sys
from pathlib import Path

from kettlefield.languages.language import Harness, Language, Toolchain
from kettlefield.languages.probing import outside_usr

# -S -s -E: the standard library and nothing else; -B: no byte code into a folder that is read-only
FLAGS = ("-S", "-s", "-E", "-B")


def _probe() -> Toolchain:
    # the base interpreter of whatever environment we run in: its standard library and nothing else
    program = Path(getattr(sys, "_base_executable", sys.executable)).resolve()
    version = ".".join(map(str, sys.version_info[:3]))
    return Toolchain(
        language="python", program=str(program), version=version, mounts=outside_usr(Path(sys.base_prefix))
    )


PYTHON = Language(
    name="python",
    title="Python",
    suffix=".py",
    order=0,
    aliases=frozenset({"python3", "py3", "pycon", "python-repl"}),
    skipped=re.compile(
        r"#[^\n]*|\"\"\".*?(?:\"\"\"|\Z)|'''.*?(?:'''|\Z)|\"(?:\\.|[^\"\\\n])*\"?|'(?:\\.|[^'\\\n])*'?", re.DOTALL
    ),
    comments=("#",),
    structure="tree",
    units=re.compile(r"^(?:async[ \t]+)?(?:def|class)[ \t]+(\w+)", re.MULTILINE),
    last_wins=True,
    start=re.compile(r"^(?:from\s+\S+\s+import\s|import\s+\w|def\s+\w+\s*\(|class\s+\w+|@\w+|async\s+def\s|#!)"),
    sign=re.compile(
        r"^[ \t]*(?:def[ \t]+\w+[ \t]*\(|from[ \t]+\S+[ \t]+import\b|import[ \t]+\w+[ \t]*$"
        r"|class[ \t]+\w+.*:[ \t]*$|print\()",
        re.MULTILINE,
    ),
    sign_rank=70,
    prompts=(">>> ", "... "),
    probe=_probe,
    environment="Python {version}, standard library only",
    harness=Harness(
        program=("program.py", "{fd}"),
        calls=("calls.py", "{fd}"),
        flags=FLAGS,
        tells_whole_numbers=True,
        takes_packages=True,
    ),
)
