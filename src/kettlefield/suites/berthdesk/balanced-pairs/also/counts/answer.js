function balancedPairs(weights, target) {
  const counts = new Map();
  for (const w of weights) counts.set(w, (counts.get(w) || 0) + 1);
  let twice = 0;
  for (const [w, n] of counts) {
    const other = target - w;
    twice += other === w ? n * (n - 1) : n * (counts.get(other) || 0);
  }
  return twice / 2;
}
