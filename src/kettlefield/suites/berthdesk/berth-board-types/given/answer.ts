import { readFileSync } from "fs";

// Reads lines "ship berth" and "leave ship"; prints where each ship lies in the end, by ship.
interface Stay {
  ship: string;
  berth: number;
  since?: number;
}

function find(stays: Stay[], ship: string): Stay | undefined {
  return stays.find((stay) => stay.ship == ship);
}

const stays: Stay[] = [];
let minute = 0;
for (const line of readFileSync(0, "utf8").split("\n")) {
  if (line === "") continue;
  minute += 1;
  const [first, second] = line.split(" ");
  if (first === "leave") {
    stays.splice(stays.indexOf(find(stays, second)), 1);
    continue;
  }
  const known = find(stays, first);
  if (known) known.berth = Number(second);
  else stays.push({ ship: first, berth: Number(second), since: minute });
}
stays.sort((a, b) => a.ship - b.ship);
for (const stay of stays) console.log(`${stay.ship} ${stay.berth} since ${stay.since.toFixed(0)}`);
