function balancedPairs(weights, target) {
  const counts = Object.create(null);
  for (const w of weights) counts[w] = (counts[w] || 0) + 1;
  let twice = 0;
  for (const key in counts) {
    const w = Number(key);
    const other = target - w;
    const n = counts[key];
    twice += other === w ? n * (n - 1) : n * (counts[other] || 0);
  }
  return twice / 2;
}
