import assert from "node:assert";
import { once } from "node:events";
import { createServer } from "node:http";
import { test } from "node:test";
import { board } from "./server.mjs";

test("the page shows what the lane says", async () => {
  const lane = createServer((_, response) => response.end("3 fish today")).listen(0, "127.0.0.1");
  await once(lane, "listening");
  const server = board(`http://127.0.0.1:${lane.address().port}/`).listen(0, "127.0.0.1");
  await once(server, "listening");
  try {
    const page = await (await fetch(`http://127.0.0.1:${server.address().port}/`)).text();
    assert.match(page, /3 fish today/);
  } finally {
    server.close();
    lane.close();
  }
});
