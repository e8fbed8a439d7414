"""PHP: run by its command-line interpreter, no packages."""

import re

from kettlefield.languages.language import Language, Recipe
from kettlefield.languages.patterns import C_LIKE
from kettlefield.languages.probing import version_probe

# what goes wrong is told on standard error, so that it is no part of what a program prints
_TOLD = "-d display_errors=stderr -d html_errors=0"

PHP = Language(
    name="php",
    title="PHP",
    suffix=".php",
    order=72,
    aliases=frozenset({"php8"}),
    skipped=re.compile(rf"{C_LIKE.pattern}|#(?!\[)[^\n]*", re.DOTALL),
    comments=("//", "/*", "#"),
    structure="braces",
    units=re.compile(
        r"^(?:(?:final|abstract|readonly)[ \t]+)*(?:function|class|interface|trait|enum)[ \t]+&?(\w+)", re.MULTILINE
    ),
    values=re.compile(r"^(?:const[ \t]+(\w+)|define\('(\w+)'|\$(\w+)[ \t]*=)", re.MULTILINE),
    head="<?php",
    start=re.compile(r"^<\?php\b"),
    sign=re.compile(r"<\?php\b"),
    sign_rank=1,
    probe=version_probe("php", "php", r"PHP (\d+\.\d+\.\d+)", "php-cli"),
    environment="PHP {version} on the command line, no packages and no mbstring",
    recipe=Recipe(
        build=f"PROGRAM {_TOLD} -l @ >&2",
        keeps=None,
        run=("php", *_TOLD.split(), "@"),
        missing=re.compile(r"Failed opening required|undefined function mb_"),
    ),
)
