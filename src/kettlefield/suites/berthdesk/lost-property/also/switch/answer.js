const readline = require("readline");

const things = [];

const rl = readline.createInterface({ input: process.stdin, crlfDelay: Infinity });
rl.on("line", (raw) => {
  const line = raw.trim();
  if (!line) return;
  const space = line.indexOf(" ");
  const word = space < 0 ? line : line.slice(0, space);
  const tail = space < 0 ? "" : line.slice(space + 1).trim();
  switch (word) {
    case "add":
      if (!tail) {
        console.log("error empty");
        break;
      }
      things.push({ text: tail, owner: null });
      console.log("@@new@@ " + things.length);
      break;
    case "claim": {
      const parts = /^([0-9]+)(?:\s+(.*))?$/.exec(tail);
      const thing = parts ? things[Number(parts[1]) - 1] : undefined;
      if (!thing) console.log("error unknown");
      else if (thing.owner) console.log("error gone");
      else if (!parts[2]) console.log("error name");
      else {
        thing.owner = parts[2];
        console.log(`@@gone@@ ${thing.text} to ${thing.owner}`);
      }
      break;
    }
    case "list":
      if (tail) {
        console.log("error command");
      } else {
        const open = things.map((t, i) => (t.owner ? 0 : i + 1)).filter(Boolean);
        console.log(open@@list.turn@@.join(" ") || "none");
      }
      break;
    default:
      console.log("error command");
  }
});
