const order = [@@order.js@@];
const tally = new Map(order.map((name) => [name, { count: 0, kilograms: 0 }]));
const lines = require("fs").readFileSync(0, "utf8").split(/\r?\n/);

function tonnes(kilograms) {
  return `${Math.floor(kilograms / 1000)}.${String(kilograms % 1000).padStart(3, "0")}`;
}

function read() {
  for (const [index, line] of lines.entries()) {
    if (line.trim() === "") continue;
    const match = /^\s*(car|van|coach|lorry)\s*;\s*(\d+)(?:[.,](\d{1,3}))?\s*$/.exec(line);
    if (match === null) return index + 1;
    const entry = tally.get(match[1]);
    entry.count += 1;
    entry.kilograms += Number(match[2]) * 1000 + Number((match[3] ?? "").padEnd(3, "0"));
  }
  return 0;
}

const bad = read();
if (bad > 0) {
  console.log(`bad line ${bad}`);
  process.exitCode = @@status@@;
} else {
  let count = 0;
  let kilograms = 0;
  for (const [name, entry] of tally) {
    if (entry.count > 0) console.log(`${name} ${entry.count} ${tonnes(entry.kilograms)}`);
    count += entry.count;
    kilograms += entry.kilograms;
  }
  console.log(`@@sum@@ ${count} ${tonnes(kilograms)}`);
}
