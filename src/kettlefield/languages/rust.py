"""Rust, built by rustc without crates."""

import re
import shutil
from pathlib import Path

from kettlefield.languages.language import MADE_DIR, Language, Missing, Recipe, Sanitiser, Toolchain
from kettlefield.languages.patterns import C_COMMENTS
from kettlefield.languages.probing import ask, outside_usr


def _probe() -> Toolchain | Missing:
    program_on_path = shutil.which("rustc")
    sysroot = ask([program_on_path, "--print", "sysroot"]) if program_on_path else ""
    program = Path(sysroot, "bin", "rustc")  # behind a version manager's shim, if there is one
    match = re.match(r"rustc (\S+)", ask([str(program), "--version"])) if sysroot and program.is_file() else None
    if match is None or shutil.which("cc") is None:
        return Missing(language="rust", remedy="apt-get install rustc")
    return Toolchain(language="rust", program=str(program), version=match[1], mounts=outside_usr(Path(sysroot)))


RUST = Language(
    name="rust",
    title="Rust",
    suffix=".rs",
    order=40,
    # a quote in Rust also opens a lifetime, so only a whole character literal is skipped
    skipped=re.compile(
        r"//[^\n]*|/\*.*?(?:\*/|\Z)|r(?P<n>#*)\".*?(?:\"(?P=n)|\Z)|\"(?:\\.|[^\"\\])*\"?|'(?:\\.[^']*|[^'\\\n])'",
        re.DOTALL,
    ),
    comments=C_COMMENTS,
    structure="braces",
    units=re.compile(
        r"^(?:pub(?:\([^)\n]{0,80}\))?[ \t]+)?(?:async[ \t]+)?(?:fn|struct|enum|trait|type)[ \t]+(\w+)", re.MULTILINE
    ),
    values=re.compile(r"^(?:pub[ \t]+)?(?:const|static)[ \t]+(\w+)|^use[ \t]+([^;]{1,300});", re.MULTILINE),
    main=re.compile(r"\bfn[ \t]+main\b"),
    start=re.compile(r"^(?:use\s|fn\s|pub\s|struct\s|enum\s|impl\b|mod\s|#!?\[|//)"),
    sign=re.compile(r"\bfn\s++\w++\s*+[(<]|\blet\s++mut\b|\bprintln!"),
    sign_rank=50,
    probe=_probe,
    environment="Rust {version}, edition 2021, standard library only (run with overflow checks too)",
    recipe=Recipe(
        build="PROGRAM --edition 2021 -O -o /tmp/out @",
        keeps=f"{MADE_DIR}/program",
        run=(f"./{MADE_DIR}/program",),
        missing=re.compile(r"use of (?:undeclared|unresolved) (?:crate|module)|can't find crate|unresolved import"),
        sanitiser=Sanitiser(
            build="PROGRAM --edition 2021 -O -C overflow-checks=on -o /tmp/out @",
            report=re.compile(r"attempt to .* overflow"),
        ),
    ),
)
