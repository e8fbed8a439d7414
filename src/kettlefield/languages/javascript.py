"""JavaScript: run by Node.js, no packages."""

import re
import shutil
from pathlib import Path

from kettlefield.languages.language import Harness, Language, Missing, Toolchain
from kettlefield.languages.patterns import C_COMMENTS, C_LIKE
from kettlefield.languages.probing import ask, outside_usr


def _probe() -> Toolchain | Missing:
    # asked of the program itself, so that a shim in front of it drops out
    program_on_path = shutil.which("node")
    line = ask([program_on_path, "-p", "process.execPath + ' ' + process.versions.node"]) if program_on_path else ""
    match = re.fullmatch(r"(/.+) (\d+\.\d+\.\d+)", line)
    if match is None:
        return Missing(language="javascript", remedy="apt-get install nodejs")
    program = Path(match[1]).resolve()
    mounts = outside_usr(program.parent.parent)
    return Toolchain(language="javascript", program=str(program), version=match[2], mounts=mounts)


JAVASCRIPT = Language(
    name="javascript",
    title="JavaScript",
    suffix=".js",
    order=10,
    aliases=frozenset({"node", "nodejs", "mjs", "cjs", "ecmascript"}),
    skipped=C_LIKE,
    comments=C_COMMENTS,
    structure="braces",
    units=re.compile(
        r"^(?:export[ \t]+)?(?:default[ \t]+)?(?:async[ \t]+)?(?:function[ \t]*\*?|class)[ \t]*([\w$]+)"
        r"|^(?:export[ \t]+)?(?:const|let|var)[ \t]+([\w$]+)[ \t]*=[ \t]*(?:async\b|function\b|\(|[\w$]+[ \t]*=>)",
        re.MULTILINE,
    ),
    values=re.compile(
        r"^(?:export[ \t]+)?(?:const|let|var)[ \t]+([\w$]+)|^import[ \t]+([^;\n]{1,300})"
        r"|^const[ \t]*(\{[^}\n]{1,300}\})",
        re.MULTILINE,
    ),
    start=re.compile(
        r"^(?:function\b|const\s|let\s|var\s|class\s+\w|import\s.+from|export\s|async\s+function|\"use strict\"|"
        r"'use strict'|#!|//|/\*)"
    ),
    sign=re.compile(r"\brequire\(|\b(?:const|let|var)\s++[\w{\[]|\bconsole\.log\(|\bfunction\b|=>"),
    sign_rank=80,
    in_pages=True,
    prompts=("> ", "... "),
    probe=_probe,
    environment="Node.js {version}, no packages",
    harness=Harness(
        program=("harness.mjs", "program", "{fd}"),
        calls=("harness.mjs", "calls", "{fd}"),
        # the collector must know its limit: the runtime reserves far more address space than it uses
        flags=("--max-old-space-size={heap_mib}", "--no-warnings"),
        bound_address_space=False,
    ),
    parse_check=("--check",),
    parse_names=("answer.cjs", "answer.mjs"),
)
