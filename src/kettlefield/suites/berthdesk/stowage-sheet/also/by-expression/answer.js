const ESCAPE = @@quote.escape@@;

function cellsOf(text) {
  const inner = ESCAPE === '"' ? '(?:[^"]|"")*' : '(?:[^"\\\\]|\\\\["\\\\]|\\\\(?!["\\\\]))*';
  const field = new RegExp(`(?:"(${inner})"([^;\\n\\r]*(?:\\r(?!\\n)[^;\\n\\r]*)*)|([^";\\n\\r](?:[^;\\n\\r]|\\r(?!\\n))*|\\r(?!\\n)(?:[^;\\n\\r]|\\r(?!\\n))*|))(;|\\r?\\n|$)`, "y");
  const rows = [[]];
  field.lastIndex = 0;
  while (true) {
    const found = field.exec(text);
    if (!found) return null;
    const [, inside, after, plain, end] = found;
    if (inside !== undefined) {
      const clean = ESCAPE === '"' ? inside.replace(/""/g, '"') : inside.replace(/\\(["\\])/g, "$1");
      rows[rows.length - 1].push(clean + after);
    } else {
      rows[rows.length - 1].push(plain === "" ? undefined : plain);
    }
    if (end === "") break;
    if (end !== ";") {
      if (field.lastIndex === text.length) break;
      rows.push([]);
    }
  }
  return rows;
}

const stowage = (text) => {
  if (text === "") return [];
  const rows = cellsOf(text);
  if (rows === null) return "unclosed";
  const [head, ...rest] = rows;
  const bad = rest.map((cells, n) => [cells.length, n + 1]).filter(([many]) => many !== head.length);
  if (bad.length) return "row " + @@wrong.pick@@(...bad.map(([, n]) => n));
  return rest.map((cells) => {
    const pairs = cells.map((cell, n) => [head[n] === undefined ? "" : head[n], cell === undefined ? null : cell]);
    return Object.fromEntries(@@empty.keep@@ ? pairs : pairs.filter(([, cell]) => cell !== null));
  });
};
