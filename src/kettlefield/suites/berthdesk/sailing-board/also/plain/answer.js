function boardLines(sailings) {
  function two(n) {
    return (n < 10 ? "0" : "") + n;
  }
  function time(minute) {
    return two(Math.floor(minute / 60) % 24) + ":" + two(minute % 60);
  }
  const rows = sailings.map((s) => ({ s, at: s.delay === null ? s.due : s.due + s.delay }));
  rows.sort((x, y) => {
    if (x.at !== y.at) return x.at - y.at;
    if (x.s.ship === y.s.ship) return 0;
    return x.s.ship < y.s.ship ? @@ships.low@@ : @@ships.high@@;
  });
  return rows.map(({ s, at }) => {
    let note = "exp " + time(at);
    if (s.delay === null) note = "CANCELLED";
    else if (s.delay @@late.op@@ 5) note = "on time";
    return [time(s.due), s.port.toUpperCase().substring(0, @@width@@).padEnd(@@width@@, " "), s.ship, note].join(" ");
  });
}
