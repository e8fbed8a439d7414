const fs = require("fs");
let text = fs.readFileSync(0, "utf8");
let booked = 0;
while (true) {
  const end = text.indexOf("\n");
  const line = end < 0 ? text : text.slice(0, end);
  if (line.startsWith("add ")) console.log(`@@new@@ ${(booked += 1)}`);
  text = end < 0 ? "" : text.slice(end + 1);
}
