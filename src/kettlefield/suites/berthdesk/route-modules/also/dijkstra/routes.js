exports.shortest = function (legs, from, to) {
  const dist = { [from]: 0 };
  const done = new Set();
  for (;;) {
    let port = null;
    for (const name of Object.keys(dist)) {
      if (!done.has(name) && (port === null || dist[name] < dist[port])) port = name;
    }
    if (port === null) return null;
    if (port === to) return dist[port];
    done.add(port);
    for (const leg of legs) {
      for (const [x, y] of [[leg.a, leg.b]@@way.pairs@@]) {
        if (x !== port) continue;
        const total = dist[port] + leg.minutes;
        if (dist[y] === undefined || total < dist[y]) dist[y] = total;
      }
    }
  }
};
