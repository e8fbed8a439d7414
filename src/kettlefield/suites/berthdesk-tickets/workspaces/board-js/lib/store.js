"use strict";

const FIRST = [
  { number: "S11", vessel: "Curlew", leaves: 450, gate: "A" },
  { number: "S12", vessel: "Teal", leaves: 465, gate: "B" },
  { number: "S13", vessel: "Dunlin", leaves: 480, gate: "A" },
];

/** The departures of the day; times are minutes after midnight. */
function openStore(departures = FIRST) {
  const byNumber = new Map(departures.map((one) => [one.number, { delay: 0, ...one }]));
  return {
    all: () => [...byNumber.values()].sort(inOrder),
    find: (number) => byNumber.get(number),
    put: (departure) => byNumber.set(departure.number, departure),
  };
}

function inOrder(one, other) {
  return one.leaves - other.leaves || (one.number < other.number ? -1 : 1);
}

module.exports = { openStore };
