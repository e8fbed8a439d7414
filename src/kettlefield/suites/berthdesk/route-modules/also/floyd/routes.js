exports.shortest = function shortest(legs, from, to) {
  if (from === to) return 0;
  const ports = [...new Set(legs.flatMap((leg) => [leg.a, leg.b]))];
  const place = new Map(ports.map((port, i) => [port, i]));
  if (!place.has(from) || !place.has(to)) return null;
  const n = ports.length;
  const d = Array.from({ length: n }, (_, i) => Array.from({ length: n }, (_, j) => (i === j ? 0 : Infinity)));
  for (const { a, b, minutes } of legs) {
    const i = place.get(a);
    const j = place.get(b);
    d[i][j] = Math.min(d[i][j], minutes);
    if (@@way.both@@) d[j][i] = Math.min(d[j][i], minutes);
  }
  for (let k = 0; k < n; k += 1) {
    for (let i = 0; i < n; i += 1) {
      for (let j = 0; j < n; j += 1) {
        if (d[i][k] + d[k][j] < d[i][j]) d[i][j] = d[i][k] + d[k][j];
      }
    }
  }
  const result = d[place.get(from)][place.get(to)];
  return result === Infinity ? null : result;
};
