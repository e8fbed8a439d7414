import * as fs from "fs";

type Result = { ok: true; value: number } | { ok: false; why: string };
type Step = (open: Set<string>) => Result;

const sources: { [name: string]: string } = Object.create(null);
const order: string[] = [];

function fail(why: string): Result {
  return { ok: false, why };
}

function combine(sign: string, a: Step, b: Step): Step {
  return (open) => {
    const x = a(open);
    if (!x.ok) return x;
    const y = b(open);
    if (!y.ok) return y;
    if (sign === "/" && y.value === 0) return fail("division");
    const table: { [sign: string]: () => number } = {
      "+": () => x.value + y.value,
      "-": () => x.value - y.value,
      "*": () => x.value * y.value,
      "/": () => @@cut.js@@(x.value / y.value),
      min: () => (x.value < y.value ? x.value : y.value),
      max: () => (x.value > y.value ? x.value : y.value),
    };
    return { ok: true, value: table[sign]() + 0 };
  };
}

const LOOSE: boolean = @@rank.first@@;

function power(sign: string): number {
  if (sign === "*" || sign === "/") return 30;
  if (sign === "+" || sign === "-") return LOOSE ? 20 : 10;
  if (sign === "min" || sign === "max") return LOOSE ? 10 : 20;
  return 0;
}

function compile(text: string): Step | null {
  const words = Array.from(text.matchAll(/[0-9]+|[A-Za-z_]+|[^\s]/g), (found) => found[0]);
  let at = 0;

  function operand(): Step | null {
    const word = words[at++];
    if (word === undefined) return null;
    if (word === "-") {
      const inner = operand();
      return inner && ((open) => {
        const x = inner(open);
        return x.ok ? { ok: true, value: 0 - x.value } : x;
      });
    }
    if (word === "(") {
      const inner = climb(1);
      return words[at++] === ")" ? inner : null;
    }
    if (/^[0-9]/.test(word)) return () => ({ ok: true, value: parseInt(word, 10) });
    if (!/^[A-Za-z_]/.test(word) || power(word) > 0) return null;
    return (open) => evaluate(word, open);
  }

  function climb(least: number): Step | null {
    let left = operand();
    while (left && words[at] !== undefined && power(words[at]) >= least) {
      const sign = words[at++];
      const right = climb(@@chain.right@@ ? power(sign) : power(sign) + 1);
      left = right && combine(sign, left, right);
    }
    return left;
  }

  const whole = climb(1);
  return at === words.length ? whole : null;
}

function evaluate(name: string, open: Set<string>): Result {
  if (open.has(name)) return fail("circle");
  if (sources[name] === undefined) return fail("unknown");
  const step = compile(sources[name]);
  return step ? step(new Set([...Array.from(open), name])) : fail("syntax");
}

fs.readFileSync(0, "utf8").split("\n").filter((line: string) => line.trim() !== "").forEach((line: string) => {
  const [left, ...rest] = line.split("=");
  const name = left.trim();
  if (sources[name] === undefined) order.push(name);
  sources[name] = rest.join("=");
});
order.forEach((name) => {
  const result = evaluate(name, new Set());
  console.log(name + " " + (result.ok ? result.value : result.why));
});
