"""SQL, run by SQLite."""

import re

from kettlefield.languages.language import Language, Recipe
from kettlefield.languages.probing import version_probe

SQL = Language(
    name="sql",
    title="SQL",
    suffix=".sql",
    order=80,
    aliases=frozenset({"sqlite", "sqlite3"}),
    skipped=re.compile(r"--[^\n]*|/\*.*?(?:\*/|\Z)|'(?:''|[^'])*'?|\"(?:\"\"|[^\"])*\"?", re.DOTALL),
    comments=("--", "/*"),
    structure="semicolon",
    units=re.compile(
        r"^create[ \t]+(?:temp[ \t]+|temporary[ \t]+)?(?:table|view|index|trigger)[ \t]+(\w+)",
        re.MULTILINE | re.IGNORECASE,
    ),
    folds_case=True,
    start=re.compile(r"^(?:select|with|create|insert|update|delete)\b", re.IGNORECASE),
    sign=re.compile(r"^[ \t]*(?:select|with|insert|create|update|delete)\b", re.IGNORECASE | re.MULTILINE),
    sign_rank=90,
    probe=version_probe("sql", "sqlite3", r"(\d+\.\d+\.\d+)", "sqlite3"),
    environment="SQLite {version}",
    is_query=True,
    recipe=Recipe(
        # a case's standard input sets the tables up, then the answer runs; results leave as CSV with a header
        build=None,
        keeps=None,
        run=("sqlite3", "-batch", "-bail", "-csv", "-header", ":memory:", ".read /dev/stdin", ".read @"),
        missing=re.compile(r"no such module"),
        syntax=re.compile(r"syntax error|incomplete input|unrecognized token"),
    ),
)
