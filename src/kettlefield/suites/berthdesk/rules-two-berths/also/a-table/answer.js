const SHEETS = {
  "14": {
    classes: ["A", "B"],
    longest: (ship) => (ship.ramp === "bow" ? 40 : 45),
    depth: () => 355,
    under: 60,
    allows: ({ arrives, leaves }) => leaves < 420 || arrives > 540,
  },
  "17a": {
    classes: ["B", "C"],
    longest: () => 41,
    depth: (month) => ([10, 11, 12, 1, 2, 3].includes(month) ? 380 : 410),
    under: 90,
    allows: ({ arrives, leaves }) => leaves - arrives <= 240,
  },
};

function mayLie(berth, ship, call) {
  const sheet = SHEETS[berth];
  if (!sheet.classes.includes(ship.class)) return false;
  if (ship.length > sheet.longest(ship)) return false;
  if (ship.draught + sheet.under > sheet.depth(call.month)) return false;
  return sheet.allows(call);
}
