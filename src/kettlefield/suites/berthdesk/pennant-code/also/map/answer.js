function pennants(name) {
  const numbers = [...name]
    .filter((c) => /[a-z]/i.test(c) && c.charCodeAt(0) < 128)
    .map((c, i) => (c.toLowerCase().charCodeAt(0) - 97 + @@start@@ + i + i) % 26);
  if (!numbers.length) return "NIL";
  const alphabet = "ABCDEFGHIJKLMNOPQRSTUVWXYZ";
  return numbers.map((n, i) => (i > 0 && (n === numbers[i - 1]) === @@dash.when@@ ? "-" : "") + alphabet[n]).join("");
}
