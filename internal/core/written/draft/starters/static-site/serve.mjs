import { readFile } from "node:fs/promises";
import { createServer } from "node:http";
import { extname, join, normalize } from "node:path";

const types = { ".html": "text/html; charset=utf-8", ".css": "text/css", ".js": "text/javascript", ".svg": "image/svg+xml" };

createServer(async (request, response) => {
  const path = normalize(decodeURIComponent(new URL(request.url, "http://site").pathname));
  const file = join("site", path.endsWith("/") ? path + "index.html" : path);
  try {
    const content = await readFile(file);
    response.setHeader("Content-Type", types[extname(file)] ?? "application/octet-stream");
    response.end(content);
  } catch {
    response.statusCode = 404;
    response.end("not here");
  }
}).listen(Number(process.env.PORT), "127.0.0.1");
