import { expect, test } from "bun:test";
import { board } from "./server";

test("every species is counted", async () => {
  expect(await board(new Request("http://board.example/")).json()).toEqual({ silverfin: 3, redgill: 1 });
});
