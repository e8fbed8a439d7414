// A ticket number is a text of digits. Its check letter is found so:
// - every digit is multiplied by its place, @@side.says@@, and so on;
// - the products are added up;
// - the letter at position (sum modulo 8) of LETTERS is the check letter, positions counted from 0.
// checkLetter(number) returns that letter; for a text that is empty or holds anything but digits it returns "?".
const LETTERS = "@@letters@@";

function checkLetter(number) {
  if (!/^[0-9]+$/.test(number)) return "?";
  let sum = 0;
  for (let i = 0; i < number.length; i++) {
    sum += Number(number[@@side.at@@]) * (i + 1);
  }
  return LETTERS[sum % LETTERS.length];
}
