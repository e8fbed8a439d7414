"""Go, built without modules from elsewhere."""

import re
import shutil
from pathlib import Path

from kettlefield.languages.language import (
    MADE_DIR,
    PREPARED,
    Language,
    Missing,
    Preparation,
    Recipe,
    Sanitiser,
    Toolchain,
)
from kettlefield.languages.patterns import C_COMMENTS, C_LIKE
from kettlefield.languages.probing import ask, outside_usr


def _probe() -> Toolchain | Missing:
    program_on_path = shutil.which("go")
    match = re.search(r"go(\d+\.\d+(?:\.\d+)?)", ask([program_on_path, "version"])) if program_on_path else None
    root = ask([program_on_path, "env", "GOROOT"]) if program_on_path else ""
    if match is None or not root:
        return Missing(language="go", remedy="apt-get install golang-go")
    program = Path(root, "bin", "go").resolve()
    return Toolchain(language="go", program=str(program), version=match[1], mounts=outside_usr(Path(root)))


_BUILD = "HOME=/tmp GOCACHE=/tmp/cache GOFLAGS=-mod=mod GO111MODULE=off PROGRAM build"
_IMPORTS = (
    *("bufio", "bytes", "container/heap", "container/list", "context", "encoding/json", "errors", "fmt", "io", "math"),
    *("os", "regexp", "sort", "strconv", "strings", "sync", "sync/atomic", "time", "unicode", "unicode/utf8"),
)
# imports what programs import
_PROGRAM = "package main\n\n" + "".join(f'import _ "{name}"\n' for name in _IMPORTS) + "\nfunc main() {}\n"

GO = Language(
    name="go",
    title="Go",
    suffix=".go",
    order=60,
    aliases=frozenset({"golang"}),
    skipped=C_LIKE,
    comments=C_COMMENTS,
    structure="braces",
    units=re.compile(r"^(?:func|type)[ \t]+(?:\([^)\n]{0,200}\)[ \t]*)?(\w+)", re.MULTILINE),
    values=re.compile(r"^(?:var|const)[ \t]+(\w+)", re.MULTILINE),
    head="package ",
    main=re.compile(r"\bfunc[ \t]+main\b"),
    start=re.compile(r"^(?:package\s|//|/\*)"),
    sign=re.compile(r"^package \w+", re.MULTILINE),
    sign_rank=10,
    probe=_probe,
    environment="Go {version}, standard library only",
    recipe=Recipe(
        build=f"{_BUILD} -o /tmp/out @",
        keeps=f"{MADE_DIR}/program",
        run=(f"./{MADE_DIR}/program",),
        missing=re.compile(r"cannot find package|is not in GOROOT|no required module"),
        bound_address_space=False,
        joins=True,
        sanitiser=Sanitiser(
            build=f"{{ [ ! -f {PREPARED} ] || tar -xf {PREPARED} -C /tmp; }} && {_BUILD} -race -o /tmp/out @",
            report=re.compile(r"WARNING: DATA RACE"),
            env={"GORACE": "halt_on_error=1"},
            by_default=False,
            # the library built with the detector: ten seconds on two processors, where an answer then takes a half
            preparation=Preparation(
                files={"main.go": _PROGRAM},
                line=f"{_BUILD} -race -o /tmp/made main.go && tar -cf /tmp/out -C /tmp cache",
            ),
        ),
    ),
)
