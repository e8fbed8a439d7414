"use strict";

const SIGNS = { "&": "&amp;", "<": "&lt;", ">": "&gt;", '"': "&quot;" };

function escaped(text) {
  return String(text).replace(/[&<>"]/g, (sign) => SIGNS[sign]);
}

/** The board as a page: one row a departure. */
function boardPage(departures) {
  const rows = departures
    .map((one) => `<tr><td>${escaped(one.leaves)}</td><td>${escaped(one.vessel)}</td><td>${escaped(one.gate)}</td></tr>`)
    .join("\n");
  return [
    "<!doctype html>",
    '<html lang="en">',
    '<meta charset="utf-8">',
    "<title>Departures</title>",
    "<table>",
    "<thead><tr><th>Time</th><th>Vessel</th><th>Gate</th></tr></thead>",
    `<tbody>\n${rows}\n</tbody>`,
    "</table>",
    "</html>",
    "",
  ].join("\n");
}

module.exports = { boardPage, escaped };
