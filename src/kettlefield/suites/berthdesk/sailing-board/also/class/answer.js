class Sailing {
  constructor({ ship, port, due, delay }) {
    Object.assign(this, { ship, port, due, delay });
  }

  get cancelled() {
    return this.delay === null;
  }

  get expected() {
    return this.cancelled ? this.due : this.due + this.delay;
  }

  static time(minutes) {
    const h = Math.floor(minutes / 60) % 24;
    const m = minutes % 60;
    return (h < 10 ? "0" : "") + h + ":" + (m < 10 ? "0" : "") + m;
  }

  line() {
    let port = this.port.toUpperCase();
    port = port.length > @@width@@ ? port.substring(0, @@width@@) : port.padEnd(@@width@@, " ");
    let state = "on time";
    if (this.cancelled) state = "CANCELLED";
    else if (!(this.delay @@late.op@@ 5)) state = "exp " + Sailing.time(this.expected);
    return [Sailing.time(this.due), port, this.ship, state].join(" ");
  }
}

function boardLines(sailings) {
  const list = sailings.map((s) => new Sailing(s));
  list.sort((a, b) => {
    if (a.expected !== b.expected) return a.expected - b.expected;
    if (a.ship === b.ship) return 0;
    return a.ship < b.ship ? @@ships.low@@ : @@ships.high@@;
  });
  return list.map((s) => s.line());
}
