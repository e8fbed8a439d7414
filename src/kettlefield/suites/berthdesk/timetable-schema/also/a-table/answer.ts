import { readFileSync } from "fs";

const said: string[] = [];
const say = (place: string, what: string): void => { said.push(place + ": " + what); };

const checks: Record<string, (value: unknown, place: string) => void> = {
  route(value, place) {
    const fits = typeof value === "string" && value.length === 5 && /^[A-Z][A-Z]-[A-Z][A-Z]/.test(value);
    if (!fits) say(place, "bad route");
  },
  note(value, place) {
    if (typeof value !== "string") say(place, "not text");
  },
  sailings(value, place) {
    if (!(value instanceof Array)) return say(place, "not a list");
    if (value.length < 1) say(place, "empty");
    let last: number | null = null;
    for (let i = 0; i < value.length; i += 1) {
      const x: unknown = value[i];
      if (typeof x === "number" && x >= 0 && x < 1440 && Math.floor(x) === x) {
        if (last !== null && last >= x) say(`${place}[${i}]`, "not rising");
        last = x;
      } else {
        say(`${place}[${i}]`, "bad minute");
      }
    }
  },
};

function main(): void {
  let data: unknown;
  try {
    data = JSON.parse(readFileSync(0).toString());
  } catch (error) {
    console.log("not JSON");
    return;
  }
  if (!Array.isArray(data)) {
    console.log("$: not a list");
    return;
  }
  data.forEach((entry: unknown, i: number) => {
    const place = "$[" + i + "]";
    if (entry === null || typeof entry !== "object" || Array.isArray(entry)) return say(place, "not an object");
    const fields = new Map<string, unknown>(Object.entries(entry as object));
    ["route", "sailings"].forEach((name) => { if (!fields.has(name)) say(place + "." + name, "missing"); });
    fields.forEach((value, name) => {
      const check = Object.prototype.hasOwnProperty.call(checks, name) ? checks[name] : undefined;
      if (check) check(value, place + "." + name);
      else say(place + "." + name, "unknown");
    });
  });
  console.log(said.length ? said.sort((a, b) => (a < b ? -1 : 1)).join("\n") : "valid");
}

main();
