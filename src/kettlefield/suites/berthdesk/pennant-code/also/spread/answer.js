const ALPHABET = "ABCDEFGHIJKLMNOPQRSTUVWXYZ";

function pennants(name) {
  const letters = [...name]
    .filter((ch) => (ch >= "A" && ch <= "Z") || (ch >= "a" && ch <= "z"))
    .map((ch) => ch.toUpperCase())
    .map((ch, i) => ALPHABET[(ALPHABET.indexOf(ch) + @@start@@ + i * 2) % 26]);
  if (letters.length === 0) {
    return "NIL";
  }
  const out = [];
  letters.forEach((letter, i) => {
    if (i > 0 && (letters[i - 1] === letter) === @@dash.when@@) out.push("-");
    out.push(letter);
  });
  return out.join("");
}
