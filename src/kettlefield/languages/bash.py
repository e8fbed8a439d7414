"""Bash, with the usual Unix tools."""

import re

from kettlefield.languages.language import Language, Recipe
from kettlefield.languages.probing import version_probe

BASH = Language(
    name="bash",
    title="Bash",
    suffix=".sh",
    order=70,
    aliases=frozenset({"shell", "zsh", "shellscript"}),
    # in double quotes a shell still calculates, so only what is quoted singly is skipped
    skipped=re.compile(r"(?:(?<=\s)|(?<=^))#[^\n]*|'[^']*'?", re.DOTALL | re.MULTILINE),
    comments=("#",),
    structure="closing line",
    units=re.compile(r"^(?:function[ \t]+)?([\w-]+)[ \t]*\(\)", re.MULTILINE),
    values=re.compile(r"^(?:declare[ \t]+-\w+[ \t]+)?(\w+)=", re.MULTILINE),
    last_wins=True,
    start=re.compile(r"^(?:#!|set\s+-|declare\s|while\s|for\s|if\s+\[|\w+\(\)\s*\{|\w+=|#\s)"),
    sign=re.compile(r"\A#!.*\b(?:ba)?sh\b|\bdone[ \t]*+(?:<|$)|\bfi[ \t]*+$|\besac\b", re.MULTILINE),
    sign_rank=60,
    probe=version_probe("bash", "bash", r"version (\d+\.\d+\.\d+)", "bash"),
    environment="Bash {version}, with the usual Unix tools",
    recipe=Recipe(build="PROGRAM -n @", keeps=None, run=("bash", "@"), missing=re.compile(r": command not found")),
)
