function balancedPairs(weights, target) {
  const seen = new Map();
  let pairs = 0;
  for (const weight of weights) {
    pairs += seen.get(target - weight) ?? 0;
    seen.set(weight, (seen.get(weight) ?? 0) + 1);
  }
  return pairs;
}
