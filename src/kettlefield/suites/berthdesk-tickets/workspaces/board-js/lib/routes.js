"use strict";

const { fault, json, page } = require("./answers.js");
const { boardPage } = require("./page.js");
const { shown } = require("./shown.js");

const ROUTES = [
  ["GET", /^\/$/, (store) => page(boardPage(store.all().map(shown)))],
  ["GET", /^\/api\/departures$/, (store) => json(200, store.all().map(shown))],
  ["GET", /^\/api\/departures\/(\w+)$/, oneDeparture],
];

/** The answer to a request: status, type and body. */
function handle(method, url, body, store) {
  const path = url.split("?")[0];
  const there = ROUTES.filter(([, pattern]) => pattern.test(path));
  if (there.length === 0) return fault(404, "no such path");
  const route = there.find(([wanted]) => wanted === method);
  if (route === undefined) return fault(405, "method not allowed");
  return route[2](store, path.match(route[1]), body);
}

function oneDeparture(store, [, number]) {
  const departure = store.find(number);
  return departure === undefined ? fault(404, "no such departure") : json(200, shown(departure));
}

module.exports = { handle };
