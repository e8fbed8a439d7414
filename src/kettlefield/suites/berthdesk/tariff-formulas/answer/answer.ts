import { readFileSync } from "fs";

type Node =
  | { kind: "number"; value: number }
  | { kind: "name"; name: string }
  | { kind: "minus"; of: Node }
  | { kind: "pair"; sign: string; left: Node; right: Node };

class Fault extends Error {}

const RANKS: RegExp[] = [/^(@@rank.low@@)$/, /^(@@rank.high@@)$/, /^[*\/]$/];
const FROM_THE_RIGHT: boolean = @@chain.right@@;

class Parser {
  private readonly words: string[];
  private at = 0;

  constructor(text: string) {
    this.words = text.match(/\d+|[A-Za-z_]+|\S/g) ?? [];
  }

  whole(): Node {
    const node = this.rank(0);
    if (this.at < this.words.length) throw new Fault("syntax");
    return node;
  }

  private rank(depth: number): Node {
    if (depth === RANKS.length) return this.single();
    const parts: Node[] = [this.rank(depth + 1)];
    const signs: string[] = [];
    while (this.at < this.words.length && RANKS[depth].test(this.words[this.at])) {
      signs.push(this.words[this.at]);
      this.at += 1;
      parts.push(this.rank(depth + 1));
    }
    if (FROM_THE_RIGHT) {
      let node = parts[parts.length - 1];
      for (let i = signs.length - 1; i >= 0; i -= 1) node = { kind: "pair", sign: signs[i], left: parts[i], right: node };
      return node;
    }
    let node = parts[0];
    for (let i = 0; i < signs.length; i += 1) node = { kind: "pair", sign: signs[i], left: node, right: parts[i + 1] };
    return node;
  }

  private single(): Node {
    if (this.at >= this.words.length) throw new Fault("syntax");
    const word = this.words[this.at];
    this.at += 1;
    if (word === "-") return { kind: "minus", of: this.single() };
    if (word === "(") {
      const node = this.rank(0);
      if (this.words[this.at] !== ")") throw new Fault("syntax");
      this.at += 1;
      return node;
    }
    if (/^\d+$/.test(word)) return { kind: "number", value: Number(word) };
    if (/^[A-Za-z_]+$/.test(word) && word !== "min" && word !== "max") return { kind: "name", name: word };
    throw new Fault("syntax");
  }
}

class Tariff {
  private readonly texts = new Map<string, string>();

  add(name: string, text: string): void {
    this.texts.set(name, text);
  }

  names(): string[] {
    return [...this.texts.keys()];
  }

  value(name: string, open: string[]): number {
    if (open.includes(name)) throw new Fault("circle");
    const text = this.texts.get(name);
    if (text === undefined) throw new Fault("unknown");
    return this.worth(new Parser(text).whole(), [...open, name]);
  }

  private worth(node: Node, open: string[]): number {
    if (node.kind === "number") return node.value;
    if (node.kind === "name") return this.value(node.name, open);
    if (node.kind === "minus") return 0 - this.worth(node.of, open);
    const left = this.worth(node.left, open);
    const right = this.worth(node.right, open);
    switch (node.sign) {
      case "+":
        return left + right;
      case "-":
        return left - right;
      case "*":
        return left * right + 0;
      case "min":
        return Math.min(left, right);
      case "max":
        return Math.max(left, right);
      default:
        if (right === 0) throw new Fault("division");
        return @@cut.js@@(left / right) + 0;
    }
  }
}

const tariff = new Tariff();
for (const line of readFileSync(0, "utf8").split("\n")) {
  if (line.trim() === "") continue;
  const at = line.indexOf("=");
  tariff.add(line.slice(0, at).trim(), line.slice(at + 1));
}
for (const name of tariff.names()) {
  let said: string;
  try {
    said = String(tariff.value(name, []));
  } catch (fault) {
    if (!(fault instanceof Fault)) throw fault;
    said = fault.message;
  }
  console.log(`${name} ${said}`);
}
