"use strict";

const assert = require("node:assert");
const { test } = require("node:test");
const { boardPage } = require("../lib/page.js");

test("escapes what it shows", () => {
  const page = boardPage([{ number: "S1", vessel: "A<b>", leaves: "07:30", gate: "A" }]);
  assert.ok(page.includes("A&lt;b&gt;"));
});
