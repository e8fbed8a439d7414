"use strict";

/** Minutes after midnight as a text such as 07:30. */
function clock(minutes) {
  const inDay = ((minutes % 1440) + 1440) % 1440;
  return `${String(Math.floor(inDay / 60)).padStart(2, "0")}:${String(inDay % 60).padStart(2, "0")}`;
}

module.exports = { clock };
