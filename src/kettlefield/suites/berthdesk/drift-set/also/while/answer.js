function driftCode(readings) {
  const M = @@modulus@@;
  const state = { a: @@start@@, b: 4, c: 0 };
  let previous;
  let n = 0;
  while (n < readings.length) {
    const r = readings[n];
    n += 1;
    state.a = state.a + r;
    if (state.a @@swap.op@@ 0) {
      const kept = state.a;
      state.a = state.b;
      state.b = kept;
    }
    let rest = (state.b * 3 + r) % M;
    if (rest < 0) rest += M;
    state.b = rest === 0 ? 0 : rest;
    if (n > 1 && r === previous) {
      state.c += @@same@@;
    } else if (state.b % 2 === 0) {
      state.c += state.b / 2;
    }
    previous = r;
    if (n % 3 === 0) state.a @@third.op@@ 5;
  }
  return [state.a, state.b, state.c];
}
