const LIMIT = @@high@@;

function pump(tanks) {
  let moved = 0;
  for (let i = 0; i < tanks.length; i += 1) {
    const next = i === tanks.length - 1 ? 0 : i + 1;
    if (tanks[i] > LIMIT) {
      const half = (tanks[i] - (tanks[i] % 2)) / 2;
      tanks[i] -= half;
      tanks[next] += half;
      moved += 1;
    } else if (tanks[i] % 2) {
      tanks[i] -= 1;
      moved += 1;
    }
  }
  return moved;
}

function pumpRounds(tanks) {
  const copy = Array.from(tanks);
  for (let round = 0; round < 50; round += 1) {
    if (pump(copy) === 0) return copy.concat(round);
  }
  return copy.concat(50);
}
