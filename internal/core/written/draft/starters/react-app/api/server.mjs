import { readFile } from "node:fs/promises";
import { createServer } from "node:http";
import pg from "pg";

const ledger = new pg.Pool({ connectionString: process.env.LEDGER_URL });

async function body(request) {
  let text = "";
  for await (const chunk of request) text += chunk;
  return JSON.parse(text);
}

createServer(async (request, response) => {
  try {
    switch (`${request.method} ${request.url}`) {
      case "GET /health":
        await ledger.query("select 1");
        return response.end();
      case "GET /api/passings": {
        const { rows } = await ledger.query("select species, count(*)::int from passings group by species order by species");
        response.setHeader("Content-Type", "application/json");
        return response.end(JSON.stringify(rows));
      }
      case "POST /api/passings":
        await ledger.query("insert into passings (species) values ($1)", [(await body(request)).species]);
        response.statusCode = 204;
        return response.end();
      case "GET /main.js":
        response.setHeader("Content-Type", "text/javascript");
        return response.end(await readFile("public/main.js"));
      default:
        response.setHeader("Content-Type", "text/html; charset=utf-8");
        return response.end(await readFile("public/index.html"));
    }
  } catch (error) {
    response.statusCode = 500;
    response.end(String(error));
  }
}).listen(Number(process.env.PORT), "127.0.0.1");
