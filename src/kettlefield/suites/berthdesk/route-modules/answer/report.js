const fs = require("fs");
const { shortest } = require("./routes");

function read(name) {
  try {
    return JSON.parse(fs.readFileSync(name, "utf8"));
  } catch (error) {
    console.log(`${name}: not valid JSON`);
    process.exit(1);
  }
}

const legs = read("legs.json");
const wishes = read("wishes.json");
const found = wishes.map(({ from, to }) => shortest(legs, from, to));
fs.writeFileSync("report.json", JSON.stringify(found));
console.log(`wishes ${found.length}, @@word@@ ${found.filter((minutes) => minutes === null).length}`);
