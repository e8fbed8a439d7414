"""C#: built by Mono's compiler and run by its runtime."""

import re

import msgspec

from kettlefield.languages.language import MADE_DIR, Language, Missing, Recipe, Toolchain
from kettlefield.languages.patterns import C_COMMENTS, C_LIKE
from kettlefield.languages.probing import version_probe

_compiler = version_probe("csharp", "mcs", r"version (\d+\.\d+\.\d+)", "mono-mcs")


def _probe() -> Toolchain | Missing:
    """The compiler; the runtime's settings say where its native parts are, and lie outside /usr."""
    found = _compiler()
    if isinstance(found, Missing):
        return found
    return msgspec.structs.replace(found, mounts=(*found.mounts, "/etc/mono"))


CSHARP = Language(
    name="csharp",
    title="C#",
    suffix=".cs",
    order=52,
    aliases=frozenset({"c#", "dotnet"}),
    skipped=C_LIKE,
    comments=C_COMMENTS,
    structure="braces",
    units=re.compile(
        r"^(?:(?:public|internal|static|sealed|abstract|partial)[ \t]+)*(?:class|struct|interface|enum)[ \t]+(\w+)",
        re.MULTILINE,
    ),
    values=re.compile(r"^using[ \t]+(?:static[ \t]+)?([\w.]+)[ \t]*;", re.MULTILINE),
    main=re.compile(r"\bstatic[ \t]+(?:async[ \t]+)?(?:void|int|Task)[ \t]+Main\b"),
    start=re.compile(r"^(?:using\s+\w|namespace\s|(?:public|internal|static)\s|class\s|//|/\*)"),
    sign=re.compile(r"^using[ \t]++System\b|\bConsole\.(?:Write|Read|In|Out)", re.MULTILINE),
    sign_rank=15,
    stem="Program",
    probe=_probe,
    environment="C# 7 (Mono {version}), standard library only",
    recipe=Recipe(
        build="PROGRAM -warn:0 -langversion:7.2 -r:System.Core.dll -r:System.Numerics.dll -out:/tmp/out @ >&2",
        keeps=f"{MADE_DIR}/program.exe",
        run=("mono", f"{MADE_DIR}/program.exe"),
        missing=re.compile(r"error CS0(?:234|246): .*Are you missing an assembly reference"),
        bound_address_space=False,
        joins=True,
    ),
)
