// Counts with npm's pixelmatch how many pixels differ: node pixelmatch.mjs MODULES A.png B.png THRESHOLD
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";
import { pathToFileURL } from "node:url";
const [modules, a, b, threshold] = process.argv.slice(2);
const require = createRequire(modules + "/");
const { PNG } = require("pngjs");
const { default: pixelmatch } = await import(pathToFileURL(require.resolve("pixelmatch")));
const p = PNG.sync.read(readFileSync(a)), q = PNG.sync.read(readFileSync(b));
console.log(pixelmatch(p.data, q.data, null, p.width, p.height, { threshold: Number(threshold) }));
