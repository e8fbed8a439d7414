function boardLines(sailings) {
  const clock = (minutes) => {
    const inDay = minutes % 1440;
    const hours = String(Math.floor(inDay / 60)).padStart(2, "0");
    return `${hours}:${String(inDay % 60).padStart(2, "0")}`;
  };
  const expected = (sailing) => sailing.due + (sailing.delay ?? 0);
  const state = (sailing) => {
    if (sailing.delay === null) return "CANCELLED";
    return sailing.delay @@late.op@@ 5 ? "on time" : `exp ${clock(expected(sailing))}`;
  };
  return [...sailings]
    .sort((a, b) => expected(a) - expected(b) || (a.ship < b.ship ? @@ships.low@@ : a.ship > b.ship ? @@ships.high@@ : 0))
    .map((sailing) => {
      const port = sailing.port.toUpperCase().slice(0, @@width@@).padEnd(@@width@@);
      return `${clock(sailing.due)} ${port} ${sailing.ship} ${state(sailing)}`;
    });
}
