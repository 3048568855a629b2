// Puts beside each text of the build what it is compressed to, so that the service has nothing to do for it: internal/web serves these.
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { brotliCompressSync, constants, gzipSync } from "node:zlib";

const dist = "../internal/web/dist";
for (const file of readdirSync(dist, { recursive: true }).filter((name) => /\.(js|css|svg)$/.test(name))) {
  const name = join(dist, file);
  const text = readFileSync(name);
  writeFileSync(`${name}.gz`, gzipSync(text, { level: 9 }));
  writeFileSync(`${name}.br`, brotliCompressSync(text, { params: { [constants.BROTLI_PARAM_QUALITY]: 11 } }));
}
