import { readFileSync } from "fs";

type Json = null | boolean | number | string | Json[] | { [key: string]: Json };
const KNOWN = ["route", "sailings", "note"];

function isObject(value: Json): value is { [key: string]: Json } {
  return typeof value === "object" && value !== null && !Array.isArray(value);
}

function sailingFaults(value: Json, place: string): string[] {
  if (!Array.isArray(value)) {
    return [`${place}: not a list`];
  }
  if (value.length === 0) {
    return [`${place}: empty`];
  }
  const faults: string[] = [];
  let before = -1;
  value.forEach((minute, at) => {
    if (typeof minute !== "number" || !Number.isInteger(minute) || minute < 0 || minute > 1439) {
      faults.push(`${place}[${at}]: bad minute`);
      return;
    }
    if (minute <= before) {
      faults.push(`${place}[${at}]: not rising`);
    }
    before = minute;
  });
  return faults;
}

function entryFaults(value: Json, place: string): string[] {
  if (!isObject(value)) {
    return [`${place}: not an object`];
  }
  const faults = ["route", "sailings"].filter((key) => !(key in value)).map((key) => `${place}.${key}: missing`);
  for (const [key, held] of Object.entries(value)) {
    if (!KNOWN.includes(key)) {
      faults.push(`${place}.${key}: unknown`);
    } else if (key === "route" && !(typeof held === "string" && /^[A-Z]{2}-[A-Z]{2}$/.test(held))) {
      faults.push(`${place}.route: bad route`);
    } else if (key === "note" && typeof held !== "string") {
      faults.push(`${place}.note: not text`);
    } else if (key === "sailings") {
      faults.push(...sailingFaults(held, `${place}.sailings`));
    }
  }
  return faults;
}

function check(text: string): string[] {
  let whole: Json;
  try {
    whole = JSON.parse(text);
  } catch {
    return ["not JSON"];
  }
  if (!Array.isArray(whole)) {
    return ["$: not a list"];
  }
  const faults = whole.flatMap((entry, at) => entryFaults(entry, `$[${at}]`));
  return faults.length > 0 ? faults.sort() : ["valid"];
}

console.log(check(readFileSync(0, "utf8")).join("\n"));
