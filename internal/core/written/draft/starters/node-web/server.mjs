import { createServer } from "node:http";

// board shows the counts of a day.
export function board(counts = { silverfin: 3, redgill: 1 }) {
  return createServer((request, response) => {
    if (request.url === "/health") return response.end();
    const rows = Object.entries(counts).map(([species, n]) => `<li>${species}: ${n}</li>`);
    response.setHeader("Content-Type", "text/html; charset=utf-8");
    response.end(`<!doctype html><title>Heron Weir</title><h1>Today at the ladder</h1><ul>${rows.join("")}</ul>`);
  });
}

if (import.meta.main ?? process.argv[1] === import.meta.filename) {
  board().listen(Number(process.env.PORT), "127.0.0.1");
}
