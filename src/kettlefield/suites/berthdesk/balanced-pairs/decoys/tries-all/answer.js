function balancedPairs(weights, target) {
  let pairs = 0;
  for (let i = 0; i < weights.length; i++) {
    for (let j = i + 1; j < weights.length; j++) {
      if (weights[i] + weights[j] === target) pairs += 1;
    }
  }
  return pairs;
}
