"use strict";

function json(status, value) {
  return { status, type: "application/json", body: JSON.stringify(value) };
}

function page(text) {
  return { status: 200, type: "text/html; charset=utf-8", body: text };
}

function fault(status, words) {
  return json(status, { error: words });
}

module.exports = { fault, json, page };
