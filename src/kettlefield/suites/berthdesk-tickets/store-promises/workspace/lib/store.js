"use strict";

const FIRST = [
  { number: "S11", vessel: "Curlew", leaves: 450, gate: "A" },
  { number: "S12", vessel: "Teal", leaves: 465, gate: "B" },
  { number: "S13", vessel: "Dunlin", leaves: 480, gate: "A" },
];

/**
 * The departures of the day, kept by a service: every function gives a promise. `find` rejects with a NotFound when
 * there is none; any call may reject with another error when the service is away.
 */
class NotFound extends Error {}

function openStore(departures = FIRST, { away = false } = {}) {
  const byNumber = new Map(departures.map((one) => [one.number, one]));
  const later = (value) =>
    new Promise((resolve, reject) => setTimeout(() => (away ? reject(new Error("away")) : resolve(value())), 1));
  return {
    all: () => later(() => [...byNumber.values()].sort(inOrder)),
    find: (number) =>
      later(() => byNumber.get(number)).then((one) => {
        if (one === undefined) throw new NotFound(number);
        return one;
      }),
  };
}

function inOrder(one, other) {
  return one.leaves - other.leaves || (one.number < other.number ? -1 : 1);
}

module.exports = { NotFound, openStore };
