// board answers with the counts of a day.
export function board(request: Request): Response {
  const path = new URL(request.url).pathname;
  return path === "/health" ? new Response() : Response.json({ silverfin: 3, redgill: 1 });
}

if (import.meta.main) {
  Bun.serve({ hostname: "127.0.0.1", port: Number(process.env.PORT), fetch: board });
}
