function driftCode(readings) {
  let [a, b, c] = [@@start@@, 4, 0];
  let before = null;
  let count = 0;
  for (const r of readings) {
    a += r;
    if (a @@swap.op@@ 0) {
      const kept = a;
      a = b;
      b = kept;
    }
    b = (b * 3 + r) % @@modulus@@;
    if (b < 0) b += @@modulus@@;
    if (r === before) {
      c += @@same@@;
    } else if (b % 2 === 0) {
      c += b / 2;
    }
    before = r;
    count += 1;
    if (count % 3 === 0) a @@third.op@@ 5;
  }
  return [a, b, c];
}
