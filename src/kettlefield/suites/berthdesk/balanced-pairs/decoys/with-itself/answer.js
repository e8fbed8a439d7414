function balancedPairs(weights, target) {
  const seen = new Map();
  let pairs = 0;
  for (const weight of weights) {
    seen.set(weight, (seen.get(weight) ?? 0) + 1);
    pairs += seen.get(target - weight) ?? 0;
  }
  return pairs;
}
