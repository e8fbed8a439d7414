const readline = require("readline");

class Ledger {
  constructor() {
    this.items = [];
  }

  run(line) {
    const match = /^(\S+)(?:\s+(.*))?$/.exec(line);
    const rest = (match[2] || "").trim();
    switch (match[1]) {
      case "add":
        if (!rest) return "error empty";
        this.items.push({ text: rest, owner: null });
        return "@@new@@ " + this.items.length;
      case "claim":
        return this.claim(rest);
      case "list":
        if (rest) return "error command";
        return this.open() || "none";
      default:
        return "error command";
    }
  }

  claim(rest) {
    const [, id, name] = /^(\S*)\s*(.*)$/.exec(rest);
    const item = /^[0-9]+$/.test(id) ? this.items[parseInt(id, 10) - 1] : undefined;
    if (!item) return "error unknown";
    if (item.owner !== null) return "error gone";
    if (!name) return "error name";
    item.owner = name;
    return `@@gone@@ ${item.text} to ${name}`;
  }

  open() {
    return this.items
      .map((item, i) => (item.owner === null ? i + 1 : 0))
      .filter(Boolean)@@list.turn@@
      .join(" ");
  }
}

const ledger = new Ledger();
readline.createInterface({ input: process.stdin }).on("line", (raw) => {
  const line = raw.trim();
  if (line) console.log(ledger.run(line));
});
