import { existsSync, readdirSync, readFileSync } from "node:fs";
import { dirname, join } from "node:path";

let broken = 0, links = 0;
for (const name of readdirSync("site", { recursive: true }).filter((n) => n.endsWith(".html"))) {
  for (const [, link] of readFileSync(join("site", name), "utf8").matchAll(/(?:href|src)="([^"#:]+)"/g)) {
    links++;
    if (!existsSync(join("site", dirname(name), link))) {
      console.error(`${name}: ${link} leads nowhere`);
      broken++;
    }
  }
}
console.log(`${links} links, ${broken} broken`);
process.exit(broken ? 1 : 0);
