import { readFileSync } from "fs";
import { heightAt, Tide, trendAt } from "./tides";

const tides: Tide[] = [];
for (const line of readFileSync(0, "utf8").split("\n")) {
  const [command, first, second] = line.trim().split(/\s+/);
  if (command === "tide") {
    tides.push({ minute: Number(first), height: Number(second) });
  } else if (command === "at") {
    const minute = Number(first);
    const height = heightAt(tides, minute);
    console.log(height === undefined ? `${minute} unknown` : `${minute} ${height} ${trendAt(tides, minute)}`);
  }
}
