"use strict";
const { readFileSync, writeFileSync } = require("node:fs");
const routes = require("./routes.js");

function main() {
  const data = {};
  for (const file of ["legs.json", "wishes.json"]) {
    const text = readFileSync(file, "utf8");
    try {
      data[file] = JSON.parse(text);
    } catch {
      console.log(file + ": not valid JSON");
      process.exitCode = 1;
      return;
    }
  }
  const answers = [];
  let without = 0;
  for (const wish of data["wishes.json"]) {
    const minutes = routes.shortest(data["legs.json"], wish.from, wish.to);
    if (minutes === null) without += 1;
    answers.push(minutes);
  }
  writeFileSync("report.json", JSON.stringify(answers, null, 2) + "\n");
  console.log("wishes " + answers.length + ", @@word@@ " + without);
}

main();
