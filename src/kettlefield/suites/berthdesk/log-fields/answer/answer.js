function logFields(line) {
  const head = /^((?:[01]\d|2[0-3]):[0-5]\d) (?:ch(\d+) )?([a-z]+)(?= |$)/.exec(line);
  if (head === null) return null;
  const fields = {};
  const field = / ([A-Za-z_][A-Za-z0-9_]*)(?:=(?:"((?:[^"\\]|\\[^])*)"|([^\s"]*)))?(?= |$)/y;
  field.lastIndex = head[0].length;
  while (field.lastIndex < line.length) {
    const found = field.exec(line);
    if (found === null) return null;
    const [, name, text, value] = found;
    const key = name.toLowerCase();
    if (key in fields && !@@twice.js@@) continue;
    if (text !== undefined) fields[key] = text.replace(/\\([^])/g, "$1");
    else if (value === undefined) fields[key] = @@bare.js@@;
    else fields[key] = /^-?\d+$/.test(value) ? @@number.js@@(value) : value;
  }
  return { time: head[1], channel: head[2] === undefined ? null : Number(head[2]), event: head[3], fields };
}
