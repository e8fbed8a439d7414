// A lamp signal is a text of dots and dashes. A dot lights the lamp for 1 second, a dash for @@dash@@; between two signs of the same
// text the lamp is dark for 1 second. A space means dark for @@dark@@ seconds instead of the 1 second that would stand there.
// lampShows(signal) returns [lit, dark], both in seconds. The text begins and ends with a dot or dash and never has two
// spaces side by side; the empty text gives [0, 0].
function lampShows(signal) {
  let lit = 0;
  let dark = 0;
  for (let i = 0; i < signal.length; i++) {
    if (signal[i] === " ") {
      dark += @@dark@@;
      continue;
    }
    lit += signal[i] === "-" ? @@dash@@ : 1;
    if (i + 1 < signal.length && signal[i + 1] !== " ") dark += 1;
  }
  return [lit, dark];
}
