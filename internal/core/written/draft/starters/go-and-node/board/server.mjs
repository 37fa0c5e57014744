import { createServer } from "node:http";

// board shows what the lane says.
export function board(lane) {
  return createServer(async (request, response) => {
    if (request.url === "/health") return response.end();
    const said = await (await fetch(lane)).text();
    response.setHeader("Content-Type", "text/html; charset=utf-8");
    response.end(`<!doctype html><title>Heron Weir</title><h1>Today at the ladder</h1><p>${said}</p>`);
  });
}

if (import.meta.main ?? process.argv[1] === import.meta.filename) {
  board(process.env.LANE).listen(Number(process.env.PORT), "127.0.0.1");
}
