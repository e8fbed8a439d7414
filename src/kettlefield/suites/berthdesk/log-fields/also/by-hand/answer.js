const logFields = (line) => {
  const letter = (c) => c !== undefined && /[A-Za-z_]/.test(c);
  const [hours, minutes] = [Number(line.slice(0, 2)), Number(line.slice(3, 5))];
  if (!/^[0-9]{2}:[0-9]{2} /.test(line) || hours > 23 || minutes > 59) return null;
  const result = { time: line.slice(0, 5), channel: null, event: "", fields: {} };
  let at = 6;
  const channel = /^ch([0-9]+) /.exec(line.slice(at));
  if (channel) {
    result.channel = parseInt(channel[1], 10);
    at += channel[0].length;
  }
  while (at < line.length && line[at] >= "a" && line[at] <= "z") result.event += line[at++];
  if (result.event === "") return null;
  const seen = new Set();
  while (at < line.length) {
    if (line[at++] !== " " || !letter(line[at])) return null;
    let key = "";
    while (letter(line[at]) || (line[at] >= "0" && line[at] <= "9")) key += line[at++];
    let value = @@bare.js@@;
    if (line[at] === "=") {
      at += 1;
      value = "";
      if (line[at] === '"') {
        at += 1;
        while (line[at] !== '"') {
          if (line[at] === "\\") at += 1;
          if (at >= line.length) return null;
          value += line[at++];
        }
        at += 1;
      } else {
        while (at < line.length && line[at] !== " ") {
          if (line[at] === '"' || /\s/.test(line[at])) return null;
          value += line[at++];
        }
        if (/^-?[0-9]+$/.test(value)) value = @@number.js@@(value);
      }
    }
    key = key.toLowerCase();
    if (@@twice.js@@ || !seen.has(key)) result.fields[key] = value;
    seen.add(key);
  }
  return result;
};
