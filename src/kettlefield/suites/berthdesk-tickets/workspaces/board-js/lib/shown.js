"use strict";

const { clock } = require("./times.js");

/** A departure as it is shown to the outside. */
function shown(departure) {
  return { number: departure.number, vessel: departure.vessel, leaves: clock(departure.leaves), gate: departure.gate };
}

module.exports = { shown };
