const lines = require("fs").readFileSync(0, "utf8").split(/\r?\n/);
const items = new Map();
let next = 1;

function add(description) {
  if (description === "") return "error empty";
  items.set(String(next), { description, gone: false });
  next += 1;
  return `@@new@@ ${next - 1}`;
}

function claim(rest) {
  const [number] = rest.split(" ", 1);
  const name = rest.slice(number.length).trim();
  const item = /^\d+$/.test(number) ? items.get(String(Number(number))) : undefined;
  if (item === undefined) return "error unknown";
  if (item.gone) return "error gone";
  if (name === "") return "error name";
  item.gone = true;
  return `@@gone@@ ${item.description} to ${name}`;
}

function list() {
  const open = [...items].filter(([, item]) => !item.gone).map(([number]) => number);
  return open.length > 0 ? open@@list.turn@@.join(" ") : "none";
}

for (const raw of lines) {
  const line = raw.trim();
  if (line === "") continue;
  const [command] = line.split(" ", 1);
  const rest = line.slice(command.length).trim();
  if (command === "add") console.log(add(rest));
  else if (command === "claim") console.log(claim(rest));
  else if (line === "list") console.log(list());
  else console.log("error command");
}
