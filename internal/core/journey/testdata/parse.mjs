// Reads a recording from standard input with npm's @puppeteer/replay, and writes what it made of it:
// node parse.mjs MODULES
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";
import { pathToFileURL } from "node:url";
const require = createRequire(process.argv[2] + "/");
const { parse } = await import(pathToFileURL(require.resolve("@puppeteer/replay")));
console.log(JSON.stringify(parse(JSON.parse(readFileSync(0, "utf8")))));
