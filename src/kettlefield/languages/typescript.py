"""TypeScript: checked strictly and translated by its compiler, run by Node.js."""

import re
import shutil
from pathlib import Path

from kettlefield.languages.javascript import JAVASCRIPT
from kettlefield.languages.language import MADE_DIR, Language, Missing, Recipe, Together, Toolchain
from kettlefield.languages.patterns import C_COMMENTS, C_LIKE
from kettlefield.languages.probing import ask, outside_usr


def _probe() -> Toolchain | Missing:
    program_on_path = shutil.which("tsc")
    match = re.search(r"Version (\d+\.\d+\.\d+)", ask([program_on_path, "--version"])) if program_on_path else None
    if program_on_path is None or match is None:
        return Missing(language="typescript", remedy="apt-get install node-typescript nodejs")
    node = JAVASCRIPT.probe() if JAVASCRIPT.probe is not None else None
    if not isinstance(node, Toolchain):
        return Missing(language="typescript", remedy="apt-get install nodejs")
    program = Path(program_on_path).resolve()
    mounts = {*outside_usr(program.parent.parent), *node.mounts}
    return Toolchain(
        language="typescript",
        program=str(program),
        version=f"{match[1]}, run by Node.js {node.version}",
        mounts=tuple(sorted(mounts)),
    )


# what Node.js brings is not typed: its own declarations are a package, and packages are not there
_NODE = """\
declare const process: any, require: any, module: any, exports: any, Buffer: any, console: any, globalThis: any;
declare const setTimeout: any, setInterval: any, clearTimeout: any, clearInterval: any, structuredClone: any;
declare type Buffer = any;
declare module "fs"; declare module "node:fs"; declare module "readline"; declare module "node:readline";
declare module "process"; declare module "node:process"; declare module "assert"; declare module "node:assert";
"""
_OPTIONS = "--strict --target es2021 --lib es2021 --module commonjs --esModuleInterop --skipLibCheck --noEmitOnError"
_RUN = 'node --max-old-space-size={heap_mib} /tmp/o/{stem}.js "$@"'

# as the compiler does by itself, but the declarations of the language are read once
_TOGETHER = """\
const fs = require("fs"), path = require("path"), { execFileSync } = require("child_process");
const [program, options, ...folders] = process.argv.slice(2);
const ts = require(path.join(path.dirname(program), "..", "lib", "typescript.js"));
const known = new Map();
for (const folder of folders) {
  const wanted = ts.parseCommandLine([...options.split(" "), "--outDir", `/tmp/b/${folder}/o`]).options;
  const host = ts.createCompilerHost(wanted), read = host.getSourceFile;
  host.getSourceFile = (name, ...more) => {
    if (!name.endsWith(".d.ts")) return read(name, ...more);
    if (!known.has(name)) known.set(name, read(name, ...more));
    return known.get(name);
  };
  const main = JSON.parse(fs.readFileSync("mains.json"))[folder];
  const built = ts.createProgram(["/tmp/node.d.ts", path.resolve(folder, main)], wanted, host);
  if (ts.getPreEmitDiagnostics(built).length || built.emit().emitSkipped) continue;
  execFileSync("tar", ["-cf", `/tmp/made/${folder}`, "-C", `/tmp/b/${folder}`, "o"]);
}
"""

TYPESCRIPT = Language(
    name="typescript",
    title="TypeScript",
    suffix=".ts",
    order=11,
    aliases=frozenset({"tsx", "mts", "cts"}),
    skipped=C_LIKE,
    comments=C_COMMENTS,
    structure="braces",
    units=re.compile(
        rf"{JAVASCRIPT.units.pattern if JAVASCRIPT.units is not None else ''}"
        r"|^(?:export[ \t]+)?(?:declare[ \t]+)?(?:interface|type|enum)[ \t]+(\w+)",
        re.MULTILINE,
    ),
    values=JAVASCRIPT.values,
    start=re.compile(
        rf"{JAVASCRIPT.start.pattern if JAVASCRIPT.start is not None else ''}|^(?:interface|type|enum)\s+\w"
    ),
    sign=re.compile(
        r"\b(?:const|let|function)\b[^\n]{0,200}?\w\)?\??:[ \t]*+(?:string|number|boolean|void|unknown|Map<|Array<)"
        r"|^(?:export[ \t]++)?(?:interface[ \t]++\w++[ \t<{]|type[ \t]++\w++[ \t]*+=)",
        re.MULTILINE,
    ),
    sign_rank=65,
    probe=_probe,
    environment="TypeScript {version}, strict, no packages",
    recipe=Recipe(
        build=f"cat > /tmp/node.d.ts <<'END'\n{_NODE}END\n"
        f"PROGRAM {_OPTIONS} --outDir /tmp/o /tmp/node.d.ts @ >&2"
        " && tar -cf /tmp/out -C /tmp o",
        keeps=f"{MADE_DIR}/program.tar",
        run=("bash", "-c", f"tar -xf {MADE_DIR}/program.tar -C /tmp && exec {_RUN}", "node"),
        missing=re.compile(r"error TS2307"),
        bound_address_space=False,
        together=Together(
            files={"together.js": _TOGETHER},
            line=f"cat > /tmp/node.d.ts <<'END'\n{_NODE}END\nnode together.js PROGRAM '{_OPTIONS}' FOLDERS",
        ),
    ),
)
