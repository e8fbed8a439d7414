"""C, built by GCC."""

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

C = Language(
    name="c",
    title="C",
    suffix=".c",
    order=20,
    aliases=frozenset({"h", "c11", "c17", "ansi-c"}),
    skipped=C_LIKE,
    comments=C_COMMENTS,
    structure="braces",
    units=re.compile(C_UNITS, re.MULTILINE),
    values=C_VALUES,
    head="#include",
    main=C_MAIN,
    start=re.compile(r"^(?:#include\b|#define\b|int\s+main\b|static\s|/\*|//)"),
    sign=re.compile(r"#include\s*+[<\"]"),
    sign_rank=40,
    probe=version_probe("c", "gcc", r"(\d+\.\d+\.\d+)\s*$", "gcc libc6-dev"),
    environment="GCC {version}, C17, standard library only"
    " (run with the address, undefined-behaviour and leak sanitisers too, which must report nothing)",
    recipe=Recipe(
        build="PROGRAM -std=c17 -O1 -o /tmp/out @ -lm -pthread",
        keeps=f"{MADE_DIR}/program",
        run=(f"./{MADE_DIR}/program",),
        missing=NO_HEADER,
        joins=True,
        sanitiser=Sanitiser(
            build=f"PROGRAM -std=c17 -O1 {C_SANITISE} -o /tmp/out @ -lm -pthread",
            report=C_SANITISERS,
            env={"ASAN_OPTIONS": "exitcode=99", "UBSAN_OPTIONS": "halt_on_error=1"},
        ),
    ),
)
