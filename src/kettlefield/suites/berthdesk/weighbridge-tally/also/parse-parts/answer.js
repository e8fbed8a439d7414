const fs = require("fs");

const CLASSES = [@@order.js@@];

function parseWeight(text) {
  const parts = text.replace(",", ".").split(".");
  if (parts.length > 2) return null;
  const [whole, decimals = "000"] = parts;
  if (!/^[0-9]+$/.test(whole) || !/^[0-9]{1,3}$/.test(decimals)) return null;
  return parseInt(whole, 10) * 1000 + parseInt((decimals + "00").slice(0, 3), 10);
}

const format = (kg) => (kg / 1000).toFixed(3);

const sums = {};
const lines = fs.readFileSync("/dev/stdin", "utf8").split("\n");
for (let i = 0; i < lines.length; i++) {
  if (!lines[i].trim()) continue;
  const fields = lines[i].split(";").map((field) => field.trim());
  const kg = fields.length === 2 && CLASSES.includes(fields[0]) ? parseWeight(fields[1]) : null;
  if (kg === null) {
    console.log("bad line " + (i + 1));
    process.exit(@@status@@);
  }
  const sum = (sums[fields[0]] = sums[fields[0]] || { n: 0, kg: 0 });
  sum.n++;
  sum.kg += kg;
}
let n = 0;
let kg = 0;
CLASSES.filter((name) => sums[name]).forEach((name) => {
  console.log([name, sums[name].n, format(sums[name].kg)].join(" "));
  n += sums[name].n;
  kg += sums[name].kg;
});
console.log(["@@sum@@", n, format(kg)].join(" "));
