"""Kotlin: built for the Java virtual machine, and run by it."""

import re
import shutil
from pathlib import Path

import msgspec

from kettlefield.languages.java import JAVA
from kettlefield.languages.language import (
    MADE_DIR,
    PREPARED,
    Language,
    Missing,
    Preparation,
    Recipe,
    Together,
    Toolchain,
)
from kettlefield.languages.patterns import C_COMMENTS, C_LIKE
from kettlefield.languages.probing import ask, outside_usr


def _probe() -> Toolchain | Missing:
    """The compiler's folder: it is started by the Java virtual machine itself, not by its script."""
    program_on_path = shutil.which("kotlinc")
    java = JAVA.probe() if JAVA.probe is not None else None
    if program_on_path is None or not isinstance(java, Toolchain):
        return Missing(language="kotlin", remedy="apt-get install kotlin default-jdk-headless")
    home = Path(program_on_path).resolve().parent.parent
    # to be asked takes it as long as a small build; the archive's own name says it too
    archive = (home / "lib" / "kotlin-compiler.jar").resolve().name
    match = re.search(r"\d+\.\d+\.\d+", archive) or re.search(r"\d+\.\d+\S*", ask([program_on_path, "-version"]))
    return msgspec.structs.replace(
        java,
        language="kotlin",
        program=str(home),
        version=f"{match[0] if match is not None else 'of unknown version'} on Java {java.version}",
        mounts=tuple(sorted({*java.mounts, *outside_usr(home)})),
    )


_JAVA = "java -Xmx700m -XX:+UseSerialGC -XX:TieredStopAtLevel=1"
_COMPILE = '-cp "PROGRAM/lib/*" org.jetbrains.kotlin.cli.jvm.K2JVMCompiler -kotlin-home PROGRAM -nowarn'
# uses what programs use, so that the parts of the compiler that they need are in the archive
_PROGRAM = """\
data class Call(val ship: String, val minutes: Int)

enum class Side { PORT, STARBOARD }

fun total(calls: List<Call>): Map<String, Int> =
    calls.groupBy { it.ship }.mapValues { (_, of) -> of.sumBy { it.minutes } }.toSortedMap()

fun main() {
    val calls = generateSequence(::readLine).map { it.split(" ") }.filter { it.size == 2 }
        .map { Call(it[0], it[1].toInt()) }.toList()
    val text = StringBuilder()
    for ((ship, minutes) in total(calls)) {
        val side = if (minutes % 2 == 0) Side.PORT else Side.STARBOARD
        text.append(when (side) { Side.PORT -> "p"; else -> "s" }).append("$ship: $minutes\\n")
    }
    print(text)
}
"""

_TOGETHER = """\
import java.io.File;
import java.io.PrintStream;
import java.util.ArrayList;
import java.util.List;
import org.jetbrains.kotlin.cli.jvm.K2JVMCompiler;

class Together {
    public static void main(String[] words) {
        PrintStream nowhere = new PrintStream(new java.io.ByteArrayOutputStream());
        for (int at = 1; at < words.length; at++) {
            String jar = "/tmp/made/one.jar";
            List<String> line = new ArrayList<>(List.of("-kotlin-home", words[0], "-nowarn", "-d", jar));
            for (File file : new File(words[at]).listFiles()) {
                if (file.getName().endsWith(".kt")) line.add(file.getPath());
            }
            int status = new K2JVMCompiler().exec(nowhere, line.toArray(new String[0])).getCode();
            File made = new File(jar);
            if (status == 0) made.renameTo(new File("/tmp/made/" + words[at]));
            made.delete();
        }
    }
}
"""

KOTLIN = Language(
    name="kotlin",
    title="Kotlin",
    suffix=".kt",
    order=51,
    aliases=frozenset({"kts"}),
    skipped=C_LIKE,
    comments=C_COMMENTS,
    structure="braces",
    units=re.compile(
        r"^(?:(?:public|internal|private|data|sealed|enum|open|abstract|inline|tailrec|operator)[ \t]+)*"
        r"(?:fun|class|object|interface)[ \t]+(?:<[^>\n]{1,100}>[ \t]*)?(?:[\w<>, ]{1,100}\.)?(\w+)",
        re.MULTILINE,
    ),
    values=re.compile(r"^(?:(?:private|const)[ \t]+)*va[lr][ \t]+(\w+)|^import[ \t]+([\w.]+)", re.MULTILINE),
    main=re.compile(r"\bfun[ \t]+main\b"),
    start=re.compile(r"^(?:import\s+\w|package\s|fun\s+\w|(?:data|enum|sealed)\s+class\s|class\s|val\s|/\*|//)"),
    sign=re.compile(r"^[ \t]*+(?:fun[ \t]++\w++[ \t]*+[(<]|val[ \t]++\w++[ \t]*+[:=])", re.MULTILINE),
    sign_rank=25,
    stem="Main",
    probe=_probe,
    environment="Kotlin {version}, standard library only",
    recipe=Recipe(
        build=f"{_JAVA} -XX:SharedArchiveFile={PREPARED} {_COMPILE} -d /tmp/made.jar @ >&2"
        " && mv /tmp/made.jar /tmp/out",
        keeps=f"{MADE_DIR}/program.jar",
        run=(
            *("java", "-Xmx{heap_mib}m", "-XX:+UseSerialGC", "-XX:TieredStopAtLevel=1"),
            *("-cp", f"{MADE_DIR}/program.jar:PROGRAM/lib/kotlin-stdlib.jar", "{stem}Kt"),
        ),
        missing=re.compile(r"error: unresolved reference: \w+\nimport "),
        bound_address_space=False,
        joins=True,
        preparation=Preparation(
            files={"Main.kt": _PROGRAM},
            line=f"{_JAVA} -XX:ArchiveClassesAtExit=/tmp/out {_COMPILE} -d /tmp/made Main.kt > /dev/null",
        ),
        together=Together(
            files={"Together.java": _TOGETHER}, line=f'{_JAVA} -cp "PROGRAM/lib/*" Together.java PROGRAM FOLDERS'
        ),
    ),
)
