import * as fs from "node:fs";
import * as table from "./tides";

let known: table.Tide[] = [];
const out: string[] = [];
fs.readFileSync("/dev/stdin", { encoding: "utf8" })
  .split(/\r?\n/)
  .map((row: string) => row.split(" ").filter((word) => word !== ""))
  .forEach((words: string[]) => {
    switch (words[0]) {
      case "tide":
        known = known.concat({ minute: parseInt(words[1], 10), height: parseInt(words[2], 10) });
        break;
      case "at": {
        const when = parseInt(words[1], 10);
        const trend = table.trendAt(known, when);
        out.push(trend ? [when, table.heightAt(known, when), trend].join(" ") : when + " unknown");
      }
    }
  });
if (out.length > 0) {
  console.log(out.join("\n"));
}
