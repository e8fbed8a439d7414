function shortest(legs, from, to) {
  const best = new Map([[from, 0]]);
  const open = [from];
  while (open.length > 0) {
    const port = open.shift();
    for (const { a, b, minutes } of legs) {
      if (@@way.skip@@) continue;
      const next = a === port ? b : a;
      const total = best.get(port) + minutes;
      if (!best.has(next) || total < best.get(next)) {
        best.set(next, total);
        open.push(next);
      }
    }
  }
  return best.has(to) ? best.get(to) : null;
}

module.exports = { shortest };
