"""Java: built by javac, run from one archive."""

import re
import shutil
from pathlib import Path

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
    program_on_path = shutil.which("javac")
    match = re.match(r"javac (\S+)", ask([program_on_path, "-version"])) if program_on_path else None
    if program_on_path is None or match is None:
        return Missing(language="java", remedy="apt-get install default-jdk-headless")
    home = Path(program_on_path).resolve().parent.parent
    settings = tuple(map(str, sorted(Path("/etc").glob("java-*"))))  # the runtime's own, linked from /usr
    return Toolchain(
        language="java", program=str(home / "bin" / "javac"), version=match[1], mounts=(*outside_usr(home), *settings)
    )


# the compiler and the archiver run for a second: a simple collector and the first compiler tier take half of it
_SHORT = "-J-XX:+UseSerialGC -J-XX:TieredStopAtLevel=1"
# uses what programs use, so that the parts of the compiler that they need are in the archive
_PROGRAM = """\
import java.io.*;
import java.util.*;
import java.util.function.*;
import java.util.stream.*;

public class Main {
    record Pair(String name, int count) {}

    enum Side { PORT, STARBOARD }

    interface Rule<T> { boolean holds(T of); }

    static <T extends Comparable<T>> List<T> sorted(Collection<T> of) {
        return of.stream().sorted(Comparator.reverseOrder()).collect(Collectors.toList());
    }

    public static void main(String[] args) throws IOException {
        BufferedReader in = new BufferedReader(new InputStreamReader(System.in));
        Map<String, Integer> counts = new TreeMap<>();
        String line;
        while ((line = in.readLine()) != null) {
            for (String word : line.split(" ")) counts.merge(word, 1, Integer::sum);
        }
        Rule<Pair> rule = pair -> pair.count() > 1;
        StringBuilder text = new StringBuilder();
        for (var entry : counts.entrySet()) {
            Pair pair = new Pair(entry.getKey(), entry.getValue());
            text.append(switch (Side.values()[pair.count() % 2]) { case PORT -> "p"; case STARBOARD -> "s"; });
            if (rule.holds(pair)) text.append(String.format("%s %d%n", pair.name(), pair.count()));
        }
        try {
            System.out.print(text + sorted(counts.keySet()).toString());
        } catch (RuntimeException error) {
            throw new IllegalStateException(error);
        }
    }
}
"""

_TOGETHER = """\
import java.io.File;
import java.io.OutputStream;
import java.util.ArrayList;
import java.util.List;
import javax.tools.JavaCompiler;
import javax.tools.ToolProvider;

class Together {
    public static void main(String[] folders) {
        JavaCompiler compiler = ToolProvider.getSystemJavaCompiler();
        java.util.spi.ToolProvider jar = java.util.spi.ToolProvider.findFirst("jar").get();
        for (String folder : folders) {
            String out = "/tmp/b/" + folder, made = "/tmp/made/" + folder;
            new File(out).mkdirs();
            List<String> line = new ArrayList<>(List.of("-proc:none", "-d", out));
            for (File file : new File(folder).listFiles()) {
                if (file.getName().endsWith(".java")) line.add(file.getPath());
            }
            OutputStream nowhere = OutputStream.nullOutputStream();
            if (compiler.run(null, nowhere, nowhere, line.toArray(new String[0])) != 0) continue;
            jar.run(System.out, System.err, "c0f", made, "-C", out, ".");
        }
    }
}
"""

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
        build=f"mkdir /tmp/o && PROGRAM -J-Xmx512m {_SHORT} -J-XX:SharedArchiveFile={PREPARED} -proc:none -d /tmp/o @"
        f" && (cd /tmp/o && jar -J-Xmx256m {_SHORT} c0f /tmp/out .)",
        keeps=f"{MADE_DIR}/program.jar",
        run=(
            *("java", "-Xmx{heap_mib}m", "-XX:+UseSerialGC", "-XX:TieredStopAtLevel=1"),
            *("-cp", f"{MADE_DIR}/program.jar", "{stem}"),
        ),
        missing=re.compile(r"error: package \S+ does not exist"),
        bound_address_space=False,
        joins=True,
        # the compiler's own classes, loaded and checked: half of its second
        preparation=Preparation(
            files={"Main.java": _PROGRAM},
            line=f"PROGRAM -J-Xmx512m {_SHORT} -J-XX:ArchiveClassesAtExit=/tmp/out -proc:none -d /tmp Main.java",
        ),
        together=Together(
            files={"Together.java": _TOGETHER},
            line="java -Xmx512m -XX:+UseSerialGC -XX:TieredStopAtLevel=1 Together.java FOLDERS",
        ),
    ),
)
