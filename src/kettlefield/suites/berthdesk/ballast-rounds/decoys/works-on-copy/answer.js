function pumpRounds(tanks) {
  const water = [...tanks];
  let rounds = 0;
  while (rounds < 50) {
    let changed = false;
    const before = [...water];
    for (let i = 0; i < water.length; i++) {
      if (before[i] > @@high@@) {
        const half = Math.floor(before[i] / 2);
        water[i] -= half;
        water[(i + 1) % water.length] += half;
        changed = true;
      } else if (before[i] % 2 === 1) {
        water[i] -= 1;
        changed = true;
      }
    }
    if (!changed) break;
    rounds += 1;
  }
  return [...water, rounds];
}
