function stowage(text) {
  const rows = [];
  let row = [];
  let at = 0;
  while (at < text.length) {
    let value = "";
    let quoted = false;
    if (text[at] === '"') {
      quoted = true;
      at += 1;
      for (;;) {
        if (at >= text.length) return "unclosed";
        if (text[at] === @@quote.escape@@ && (text[at + 1] === '"' || (text[at + 1] === "\\" && text[at] === "\\"))) {
          value += text[at + 1];
          at += 2;
        } else if (text[at] === '"') {
          at += 1;
          break;
        } else {
          value += text[at];
          at += 1;
        }
      }
    }
    while (at < text.length && text[at] !== ";" && text[at] !== "\n" && !text.startsWith("\r\n", at)) {
      value += text[at];
      at += 1;
    }
    row.push({ value, quoted });
    if (text[at] === ";") {
      at += 1;
      if (at < text.length) continue; // what comes is a field, an empty one too
      row.push({ value: "", quoted: false });
    }
    at += text.startsWith("\r\n", at) ? 2 : 1;
    rows.push(row);
    row = [];
  }
  if (rows.length === 0) return [];
  const names = rows[0].map((cell) => cell.value);
  const wrong = [];
  rows.slice(1).forEach((cells, index) => {
    if (cells.length !== names.length) wrong.push(index + 1);
  });
  if (wrong.length > 0) return `row ${@@wrong.pick@@(...wrong)}`;
  return rows.slice(1).map((cells) => {
    const entry = {};
    cells.forEach((cell, index) => {
      if (cell.value !== "" || cell.quoted) entry[names[index]] = cell.value;
      else if (@@empty.keep@@) entry[names[index]] = null;
    });
    return entry;
  });
}
