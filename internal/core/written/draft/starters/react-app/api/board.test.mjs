import assert from "node:assert";
import { test } from "node:test";

const board = process.env.BOARD;

test("a passing is counted", async () => {
  const count = async () => {
    const rows = await (await fetch(`${board}/api/passings`)).json();
    return rows.find((r) => r.species === "mill trout")?.count ?? 0;
  };
  const before = await count();
  const answer = await fetch(`${board}/api/passings`, { method: "POST", body: JSON.stringify({ species: "mill trout" }) });
  assert.equal(answer.status, 204);
  assert.equal(await count(), before + 1);
});

test("the page has its program", async () => {
  assert.match(await (await fetch(`${board}/`)).text(), /main\.js/);
  assert.match(await (await fetch(`${board}/main.js`)).text(), /Today at the ladder/);
});
