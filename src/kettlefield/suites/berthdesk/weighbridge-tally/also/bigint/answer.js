const text = require("fs").readFileSync(0, "utf8");
const names = [@@order.js@@];
const sums = {};
let all = 0n;
let many = 0;

function show(name, count, kilos) {
  const digits = kilos.toString().padStart(4, "0");
  console.log(`${name} ${count} ${digits.slice(0, -3)}.${digits.slice(-3)}`);
}

const rows = text.split("\n");
for (let i = 0; i < rows.length; i++) {
  const row = rows[i].trim();
  if (!row) continue;
  const [name, amount, ...more] = row.split(";").map((part) => part.trim());
  const good = more.length === 0 && names.includes(name) && amount !== undefined && /^[0-9]+([.,][0-9]{1,3})?$/.test(amount);
  if (!good) {
    console.log("bad line " + (i + 1));
    process.exit(@@status@@);
  }
  const [whole, part = ""] = amount.split(/[.,]/);
  const kilos = BigInt(whole + part.padEnd(3, "0"));
  sums[name] ??= [0, 0n];
  sums[name][0]++;
  sums[name][1] += kilos;
  all += kilos;
  many++;
}
for (const name of names) if (sums[name]) show(name, ...sums[name]);
show("@@sum@@", many, all);
