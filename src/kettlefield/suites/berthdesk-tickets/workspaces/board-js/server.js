"use strict";

const http = require("node:http");
const { handle } = require("./lib/routes.js");
const { openStore } = require("./lib/store.js");

const store = openStore();

http
  .createServer((request, response) => {
    const parts = [];
    request.on("data", (part) => parts.push(part));
    request.on("end", () => {
      const answer = handle(request.method, request.url, Buffer.concat(parts).toString(), store);
      response.writeHead(answer.status, { "Content-Type": answer.type });
      response.end(answer.body);
    });
  })
  .listen(8080);
