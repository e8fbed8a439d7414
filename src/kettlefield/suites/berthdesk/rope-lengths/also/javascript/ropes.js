const lines = require("fs").readFileSync(0, "utf8").split("\n").filter((line) => line.trim() !== "");
const coil = Number(lines.shift());
let number = 1;
let left = coil;
let waste = 0;
for (const line of lines) {
  const [name, text] = line.trim().split(/\s+/);
  const wish = Number(text);
  if (wish > coil) {
    console.log(`${name} @@no@@`);
  } else {
    if (wish > left) {
      waste += left;
      left = coil;
      number += 1;
    }
    left -= wish;
    console.log(`${name} ${number - @@from.less@@}`);
  }
}
console.log(`@@rest@@ ${waste + @@last.add@@}`);
