function driftCode(readings) {
  let a = @@start@@;
  let b = 4;
  let c = 0;
  readings.forEach((r, index) => {
    a += r;
    if (a @@swap.op@@ 0) [a, b] = [b, a];
    b = (((b * 3 + r) % @@modulus@@) + @@modulus@@) % @@modulus@@;
    if (index > 0 && r === readings[index - 1]) c += @@same@@;
    else if (b % 2 === 0) c += b / 2;
    if ((index + 1) % 3 === 0) a @@third.op@@ 5;
  });
  return [a, b, c];
}
