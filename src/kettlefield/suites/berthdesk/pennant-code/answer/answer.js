function pennants(name) {
  const letters = name.replace(/[^A-Za-z]/g, "").toUpperCase();
  if (letters === "") return "NIL";
  let signal = "";
  for (let i = 0; i < letters.length; i++) {
    const number = (letters.charCodeAt(i) - 65 + @@start@@ + 2 * i) % 26;
    const letter = String.fromCharCode(65 + number);
    if (signal !== "" && signal.endsWith(letter) === @@dash.when@@) signal += "-";
    signal += letter;
  }
  return signal;
}
