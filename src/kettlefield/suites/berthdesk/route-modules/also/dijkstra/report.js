const fs = require("fs");
const routes = require("./routes.js");

const data = {};
for (const name of ["legs.json", "wishes.json"]) {
  const text = fs.readFileSync(name, "utf8");
  try {
    data[name] = JSON.parse(text);
  } catch {
    console.log(name + ": not valid JSON");
    process.exit(1);
  }
}
let none = 0;
const result = [];
for (const wish of data["wishes.json"]) {
  const minutes = routes.shortest(data["legs.json"], wish.from, wish.to);
  if (minutes === null) none++;
  result.push(minutes);
}
fs.writeFileSync("report.json", JSON.stringify(result, null, 2));
console.log("wishes " + result.length + ", @@word@@ " + none);
