function pennants(name) {
  const letters = name.toUpperCase();
  if (!/[A-Z]/.test(letters)) return "NIL";
  let signal = "";
  for (let i = 0; i < letters.length; i++) {
    if (!/[A-Z]/.test(letters[i])) continue;
    const number = (letters.charCodeAt(i) - 65 + @@start@@ + 2 * i) % 26;
    const letter = String.fromCharCode(65 + number);
    if (signal !== "" && signal.endsWith(letter) === @@dash.when@@) signal += "-";
    signal += letter;
  }
  return signal;
}
