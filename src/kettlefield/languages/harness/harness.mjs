// Runs inside the isolation: `harness.mjs calls FD` or `harness.mjs program FD NONCE FILE`.
// The same frames as calls.py and program.py: the nonce, a space, a JSON object, one a line.
import fs from "node:fs";
import vm from "node:vm";
import { createRequire } from "node:module";
import { pathToFileURL } from "node:url";

const [mode, descriptor] = [process.argv[2], Number(process.argv[3])];
const MAX_DEPTH = 150;
const here = process.cwd();
const stringify = JSON.stringify.bind(JSON);
const writeSync = fs.writeSync.bind(fs);

function plain(value, depth = 0) {
  if (depth > MAX_DEPTH) return { $object: "nested too deeply" };
  if (value === null || typeof value === "boolean" || typeof value === "string") return value;
  if (typeof value === "number") return Number.isFinite(value) ? value : { $number: String(value) };
  if (typeof value === "undefined") return { $object: "undefined" };
  if (typeof value !== "object") return { $object: typeof value };
  if (Array.isArray(value)) return Array.from(value, (item) => plain(item, depth + 1));
  const kind = Object.getPrototypeOf(value)?.constructor?.name;
  if (kind !== undefined && kind !== "Object") return { $object: kind };
  return Object.fromEntries(Object.keys(value).map((key) => [key.startsWith("$") ? "$" + key : key, plain(value[key], depth + 1)]));
}

function kinds(error) {
  const found = [];
  for (let kind = Object.getPrototypeOf(Object(error)); kind && found.length < 10; kind = Object.getPrototypeOf(kind)) {
    if (kind.constructor?.name) found.push(kind.constructor.name);
  }
  return found.filter((name) => name !== "Object");
}

function describe(error) {
  const stack = typeof error?.stack === "string" ? error.stack : "";
  const line = stack.split(here + "/").slice(1).map((rest) => /^[^:\n]*:(\d+)/.exec(rest)).find(Boolean);
  const described = {
    type: String(error?.name ?? typeof error),
    message: String(error?.message ?? error).slice(0, 2000),
    line: line ? Number(line[1]) : null,
    kinds: kinds(error),
  };
  if (error?.code === "MODULE_NOT_FOUND" || error?.code === "ERR_MODULE_NOT_FOUND") described.module = described.message;
  if (error?.code === "ENOSPC" || error?.code === "EFBIG") described.limit = "disk";
  return described;
}

function sender(nonce) {
  return (record) => {
    let data = Buffer.from(`${nonce} ${stringify(record)}\n`);
    while (data.length) data = data.subarray(writeSync(descriptor, data));
  };
}

// a file with top-level import or export is a module; any other is a script
const isModule = (source) => /^\s*(?:import\s*(?:[\w*{]|["'])|export\s)/m.test(source);

function compile(source, file, inner) {
  // wrapped on the first line, so that line numbers stay true
  return new vm.Script(`(function (exports, require, module, __filename, __dirname) {${source}\n${inner}\n})`, {
    filename: file,
    importModuleDynamically: vm.constants?.USE_MAIN_CONTEXT_DEFAULT_LOADER,
  });
}

async function load(file, inner, send) {
  const source = fs.readFileSync(file, "utf8").replace(/^\ufeff/, "");
  if (isModule(source)) {
    const copy = `${here}/.answer.mjs`; // the name decides how Node.js reads it
    fs.writeFileSync(copy, source);
    try {
      return { exports: await import(pathToFileURL(copy).href) };
    } catch (error) {
      // a module that does not parse has no frame of its own on the stack
      const parsed = !(error instanceof SyntaxError) || /\n\s+at .*answer\.mjs/.test(error.stack ?? "");
      send({ [parsed ? "load" : "build"]: describe(error) });
      return null;
    }
  }
  let script;
  try {
    script = compile(source.replace(/^#!.*/, ""), file, inner);
  } catch (error) {
    send({ build: describe(error) });
    return null;
  }
  send({ built: true });
  const module = { exports: {} };
  try {
    const require = createRequire(file);
    require.main = module;
    const entry = script.runInThisContext()(module.exports, require, module, file, here);
    return { entry, exports: module.exports };
  } catch (error) {
    send({ load: describe(error) });
    if (mode === "program") throw error;
    return null;
  }
}

// which argument is no longer what it was, from 1; null when all are
function changed(args, before) {
  const at = args.findIndex((arg, index) => stringify(plain(arg)) !== before[index]);
  return at < 0 ? null : at + 1;
}

const state = (args) => args.map((arg) => stringify(plain(arg)));

// one call as a frame: what it gave or threw, and which argument it changed
async function call(run, args) {
  const before = state(args);
  let frame;
  try {
    frame = { value: plain(await run(...args)) };
  } catch (error) {
    frame = { error: describe(error) };
  }
  return { ...frame, changed: changed(args, before) };
}

async function calls() {
  const job = JSON.parse(fs.readFileSync(0, "utf8"));
  const send = sender(job.nonce);
  const name = job.function;
  const inner = `return typeof ${name} === "undefined" ? undefined : ${name};`;
  const loaded = await load(`${here}/${job.file}`, inner, send);
  if (loaded === null) return;
  const found = [loaded.entry, loaded.exports?.[name], loaded.exports?.default, loaded.exports];
  const entry = found.find((candidate) => typeof candidate === "function");
  if (entry === undefined) {
    send({ build: { type: "ReferenceError", message: `no function ${name} is defined`, line: null } });
    return;
  }
  for (const [number, { args, steps }] of job.cases.entries()) {
    try {
      if (!job.object) {
        send({ case: number, ...(await call(entry, args)) });
        continue;
      }
      const before = state(args);
      const target = new entry(...args);
      const results = [];
      for (const step of steps) results.push(await call((...words) => target[step.call](...words), step.args));
      send({ case: number, steps: results, changed: changed(args, before) });
    } catch (error) {
      send({ case: number, error: describe(error) });
    }
  }
  send({ done: true });
}

async function program() {
  const [nonce, file, ...words] = process.argv.slice(4);
  process.argv.splice(1, process.argv.length - 1, `${here}/${file}`, ...words);
  await load(`${here}/${file}`, "", sender(nonce));
}

if (mode === "calls") {
  await calls();
  process.exit(0); // timers that the answer left behind do not hold the run up
}
await program();
