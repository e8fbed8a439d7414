"""C++, built by GCC."""

import re

from kettlefield.languages.language import MADE_DIR, Language, Recipe, Sanitiser
from kettlefield.languages.patterns import (
    C_COMMENTS,
    C_LIKE,
    C_MAIN,
    C_SANITISE,
    C_SANITISERS,
    C_UNITS,
    C_VALUES,
    NO_HEADER,
)
from kettlefield.languages.probing import version_probe

CPP = Language(
    name="cpp",
    title="C++",
    suffix=".cpp",
    order=30,
    aliases=frozenset({"c++", "cc", "cxx", "hpp", "c++17", "c++20"}),
    skipped=C_LIKE,
    comments=C_COMMENTS,
    structure="braces",
    units=re.compile(C_UNITS + r"|^(?:template[^\n]{0,200}\n)?(?:class|struct)[ \t]+(\w+)", re.MULTILINE),
    values=C_VALUES,
    head="#include",
    main=C_MAIN,
    start=re.compile(r"^(?:#include\b|#define\b|using\s|int\s+main\b|template\s*<|/\*|//)"),
    sign=re.compile(r"#include\s*+<(?:iostream|vector|string|map|algorithm|array|cstd\w+)>|\bstd::"),
    sign_rank=30,
    probe=version_probe("cpp", "g++", r"(\d+\.\d+\.\d+)\s*$", "g++"),
    environment="G++ {version}, C++20, standard library only"
    " (run with the address, undefined-behaviour and leak sanitisers too, which must report nothing)",
    recipe=Recipe(
        build="PROGRAM -std=c++20 -O1 -o /tmp/out @ -pthread",
        keeps=f"{MADE_DIR}/program",
        run=(f"./{MADE_DIR}/program",),
        missing=NO_HEADER,
        joins=True,
        sanitiser=Sanitiser(
            build=f"PROGRAM -std=c++20 -O1 {C_SANITISE} -o /tmp/out @ -pthread",
            report=C_SANITISERS,
            env={"ASAN_OPTIONS": "exitcode=99", "UBSAN_OPTIONS": "halt_on_error=1"},
        ),
    ),
)
