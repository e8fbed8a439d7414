"""Bash, with the usual Unix tools."""

import re

import msgspec

from kettlefield.languages.language import Language, Missing, Recipe, Toolchain
from kettlefield.languages.probing import ask, version_probe

_shell = version_probe("bash", "bash", r"version (\d+\.\d+\.\d+)", "bash")
# a function that one awk has and another has not decides whether a script runs; old awks know no --version
_ASKED = {"awk": (["awk", "-W", "version"], ["awk", "--version"]), "sed": (["sed", "--version"],)}


def _probe() -> Toolchain | Missing:
    """The shell, and beside its version which awk and sed there are."""
    shell = _shell()
    if isinstance(shell, Missing):
        return shell
    tools = [_named(name, next(filter(None, map(ask, commands)), "")) for name, commands in _ASKED.items()]
    return msgspec.structs.replace(shell, version=", ".join([shell.version, *filter(None, tools)]))


def _named(name: str, said: str) -> str:
    """A tool and its version as one phrase: ``awk: mawk 1.3.4``."""
    version = re.match(r"(?P<who>[^\d,(]*)(?:\((?P<maker>[^)]*)\))?[^\d]*(?P<number>\d[\w.]*)", said)
    return f"{name}: {(version['maker'] or version['who']).strip()} {version['number']}" if version else ""


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
    probe=_probe,
    environment="Bash {version}, with the usual Unix tools",
    recipe=Recipe(build="PROGRAM -n @", keeps=None, run=("bash", "@"), missing=re.compile(r": command not found")),
)
