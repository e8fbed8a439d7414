function pumpRounds(tanks) {
  const water = [...tanks];
  let rounds = 0;
  while (rounds < 50) {
    let changed = false;
    for (let i = 0; i < water.length; i++) {
      if (water[i] > @@high@@) {
        const half = Math.ceil(water[i] / 2);
        water[i] -= half;
        water[(i + 1) % water.length] += half;
        changed = true;
      } else if (water[i] % 2 === 1) {
        water[i] -= 1;
        changed = true;
      }
    }
    if (!changed) break;
    rounds += 1;
  }
  return [...water, rounds];
}
