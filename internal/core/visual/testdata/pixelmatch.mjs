// Counts with npm's pixelmatch how many pixels differ: node pixelmatch.mjs MODULES A.png B.png THRESHOLD
// With a fifth argument N it reads and compares N times after one that warms up, and prints the
// median in milliseconds instead.
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";
import { pathToFileURL } from "node:url";
const [modules, a, b, threshold, times] = process.argv.slice(2);
const require = createRequire(modules + "/");
const { PNG } = require("pngjs");
const { default: pixelmatch } = await import(pathToFileURL(require.resolve("pixelmatch")));
const count = () => {
  const p = PNG.sync.read(readFileSync(a)), q = PNG.sync.read(readFileSync(b));
  return pixelmatch(p.data, q.data, null, p.width, p.height, { threshold: Number(threshold) });
};
if (!times) console.log(count());
else {
  count();
  const took = [];
  for (let i = 0; i < Number(times); i++) {
    const began = performance.now();
    count();
    took.push(performance.now() - began);
  }
  console.log(took.sort((x, y) => x - y)[Math.floor(took.length / 2)]);
}
