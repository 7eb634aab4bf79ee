// After the build: a gzip file beside every script and style, which the service sends to browsers that take it.
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { gzipSync } from "node:zlib";

const folder = join(import.meta.dirname, "../src/lamppost/console/dist/assets");
for (const name of readdirSync(folder)) {
  if (!/\.(js|css)$/.test(name)) continue;
  const content = readFileSync(join(folder, name));
  const small = gzipSync(content, { level: 9 });
  if (small.length < 0.9 * content.length) writeFileSync(join(folder, `${name}.gz`), small);
}
