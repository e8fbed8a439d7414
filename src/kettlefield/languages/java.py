"""Java: built by javac, run from one archive."""

import re
import shutil
from pathlib import Path

from kettlefield.languages.language import MADE_DIR, Language, Missing, Recipe, Toolchain
from kettlefield.languages.patterns import C_COMMENTS, C_LIKE
from kettlefield.languages.probing import ask, outside_usr


def _probe() -> Toolchain | Missing:
    program_on_path = shutil.which("javac")
    match = re.match(r"javac (\S+)", ask([program_on_path, "-version"])) if program_on_path else None
    if program_on_path is None or match is None:
        return Missing(language="java", remedy="apt-get install default-jdk-headless")
    home = Path(program_on_path).resolve().parent.parent
    settings = tuple(map(str, sorted(Path("/etc").glob("java-*"))))  # the runtime's own, linked from /usr
    return Toolchain(
        language="java", program=str(home / "bin" / "javac"), version=match[1], mounts=(*outside_usr(home), *settings)
    )


JAVA = Language(
    name="java",
    title="Java",
    suffix=".java",
    order=50,
    skipped=C_LIKE,
    comments=C_COMMENTS,
    structure="braces",
    units=re.compile(
        r"^(?:(?:public|final|abstract|sealed)[ \t]+)*(?:class|interface|enum|record)[ \t]+(\w+)", re.MULTILINE
    ),
    main=re.compile(r"\bstatic[ \t]+void[ \t]+main\b"),
    start=re.compile(r"^(?:import\s|package\s|public\s|class\s|final\s|record\s|/\*|//)"),
    sign=re.compile(r"\bpublic\s++(?:final\s++)?class\b|\bstatic\s++void\s++main\b"),
    sign_rank=20,
    named_by=re.compile(r"\bpublic\s++(?:final\s++|abstract\s++)*(?:class|record|enum|interface)\s+(\w+)"),
    stem="Main",
    probe=_probe,
    environment="Java {version}, standard library only",
    recipe=Recipe(
        build="mkdir /tmp/o && PROGRAM -J-Xmx512m -d /tmp/o @ && (cd /tmp/o && jar -J-Xmx256m cf /tmp/out .)",
        keeps=f"{MADE_DIR}/program.jar",
        run=(
            *("java", "-Xmx{heap_mib}m", "-XX:+UseSerialGC", "-XX:TieredStopAtLevel=1"),
            *("-cp", f"{MADE_DIR}/program.jar", "{stem}"),
        ),
        missing=re.compile(r"error: package \S+ does not exist"),
        bound_address_space=False,
        joins=True,
    ),
)
