"""Ruby: run by the interpreter, its standard library and nothing else."""

import re

from kettlefield.languages.language import Language, Recipe
from kettlefield.languages.probing import version_probe

RUBY = Language(
    name="ruby",
    title="Ruby",
    suffix=".rb",
    order=71,
    aliases=frozenset({"rb", "irb"}),
    # in a string "#" begins no comment, so strings come first
    skipped=re.compile(
        r"\"(?:\\.|[^\"\\])*\"?|'(?:\\.|[^'\\])*'?|(?:(?<=\s)|(?<=^))#[^\n]*|^=begin\b.*?(?:^=end\b|\Z)",
        re.DOTALL | re.MULTILINE,
    ),
    comments=("#", "=begin"),
    units=re.compile(r"^(?:def[ \t]+(?:self\.)?|class[ \t]+|module[ \t]+)(\w+[?!=]?)", re.MULTILINE),
    values=re.compile(r"^([A-Z]\w*)[ \t]*=|^require(?:_relative)?[ \t]+['\"]([^'\"\n]{1,100})", re.MULTILINE),
    last_wins=True,
    start=re.compile(
        r"^(?:#!|puts\s|require(?:_relative)?\s+['\"]|def\s+\w|class\s+[A-Z]|module\s+[A-Z]|[A-Z_]+\s*=|#\s)"
    ),
    sign=re.compile(
        r"\bdo[ \t]*+\|[\w, ()*]++\||\{[ \t]*+\|[\w, ()*]++\||^[ \t]*+(?:puts|attr_reader|require_relative)\b"
        r"|^[ \t]*+require[ \t]++['\"]",
        re.MULTILINE,
    ),
    sign_rank=55,
    probe=version_probe("ruby", "ruby", r"ruby (\d+\.\d+\.\d+)", "ruby"),
    environment="Ruby {version}, standard library only",
    recipe=Recipe(
        build="PROGRAM --disable-gems -c @ > /dev/null",
        keeps=None,
        run=("ruby", "--disable-gems", "@"),
        missing=re.compile(r"cannot load such file"),
    ),
)
