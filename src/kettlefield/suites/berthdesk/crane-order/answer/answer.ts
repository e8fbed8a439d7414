import { readFileSync } from "fs";

interface Ship {
  name: string;
  arrives: number;
  takes: number;
  rank: number;
  line: number;
}

const AGEING = 30;

function urgency(ship: Ship, minute: number): number {
  return ship.rank + Math.floor((minute - ship.arrives) / AGEING);
}

function comesFirst(a: Ship, b: Ship, minute: number): number {
  return urgency(b, minute) - urgency(a, minute) || a.arrives - b.arrives || a.line - b.line;
}

function plan(cranes: number, ships: readonly Ship[]): string[] {
  const freeAt: number[] = new Array(cranes).fill(0);
  let waiting = [...ships];
  const lines: string[] = [];
  let minute = 0;
  while (waiting.length > 0) {
    const crane = freeAt.findIndex((free) => free <= minute);
    const here = waiting.filter((ship) => ship.arrives <= minute);
    if (crane < 0 || here.length === 0) {
      const moments = [...freeAt, ...waiting.map((ship) => ship.arrives)];
      minute = Math.min(...moments.filter((moment) => moment > minute));
      continue;
    }
    here.sort((a, b) => comesFirst(a, b, minute));
    const next = here[0];
    waiting = waiting.filter((ship) => ship !== next);
    freeAt[crane] = minute + next.takes;
    lines.push(`${minute} crane ${crane + 1} ${next.name}`);
  }
  return [...lines, `done ${Math.max(...freeAt)}`];
}

let cranes = 1;
const ships: Ship[] = [];
readFileSync(0, "utf8")
  .split("\n")
  .forEach((text: string, line: number) => {
    const [name, ...numbers] = text.trim().split(/\s+/);
    if (line === 0) {
      cranes = Number(numbers[0]);
    } else if (name !== "") {
      const [arrives, takes, rank] = numbers.map(Number);
      ships.push({ name, arrives, takes, rank, line });
    }
  });
console.log(plan(cranes, ships).join("\n"));
