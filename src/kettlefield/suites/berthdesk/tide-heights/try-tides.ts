import { heightAt, Tide, trendAt } from "./tides";

const tides: Tide[] = [
  { minute: 300, height: 40 },
  { minute: 0, height: 100 },
  { minute: 200, height: 101 },
];
const before = JSON.stringify(tides);
for (const minute of [-1, 0, 100, 250, 300, 301]) {
  console.log(minute, String(heightAt(tides, minute)), String(trendAt(tides, minute)));
}
console.log(JSON.stringify(tides) === before ? "unchanged" : "changed");
