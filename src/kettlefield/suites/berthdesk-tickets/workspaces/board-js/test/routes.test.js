"use strict";

const assert = require("node:assert");
const { test } = require("node:test");
const { handle } = require("../lib/routes.js");
const { openStore } = require("../lib/store.js");

test("lists departures in order", () => {
  const answer = handle("GET", "/api/departures", "", openStore());
  assert.strictEqual(answer.status, 200);
  assert.deepStrictEqual(
    JSON.parse(answer.body).map((one) => one.number),
    ["S11", "S12", "S13"],
  );
});

test("gives one departure", () => {
  const answer = handle("GET", "/api/departures/S12", "", openStore());
  assert.deepStrictEqual(JSON.parse(answer.body), { number: "S12", vessel: "Teal", leaves: "07:45", gate: "B" });
});

test("knows what is not there", () => {
  assert.strictEqual(handle("GET", "/api/departures/S99", "", openStore()).status, 404);
  assert.strictEqual(handle("POST", "/api/departures", "", openStore()).status, 405);
});
