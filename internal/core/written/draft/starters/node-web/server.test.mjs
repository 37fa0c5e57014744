import assert from "node:assert";
import { once } from "node:events";
import { test } from "node:test";
import { board } from "./server.mjs";

test("the page lists every species", async () => {
  const server = board({ "mill trout": 2 }).listen(0, "127.0.0.1");
  await once(server, "listening");
  try {
    const page = await (await fetch(`http://127.0.0.1:${server.address().port}/`)).text();
    assert.match(page, /mill trout: 2/);
  } finally {
    server.close();
  }
});
