const pumpRounds = (tanks) => {
  const next = tanks.slice();
  const n = next.length;
  for (let rounds = 0; rounds < 50; rounds += 1) {
    let worked = 0;
    next.forEach((_, i) => {
      const held = next[i];
      if (held > @@high@@) {
        next[(i + 1) % n] += held >> 1;
        next[i] = held - (held >> 1);
        worked += 1;
      } else if (held & 1) {
        next[i] = held - 1;
        worked += 1;
      }
    });
    if (worked === 0) return next.concat(rounds);
  }
  return next.concat(50);
};
