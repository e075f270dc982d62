// What scripts declare at their top and use without declaring it, by acorn and eslint-scope.
// node scopes.mjs DIRECTORY COUNT: the first COUNT scripts, spread over the packages, as JSON.
import { readdirSync, readFileSync, statSync } from "node:fs";
import { createRequire } from "node:module";
import { join } from "node:path";

const [, , root, count] = process.argv;
const require = createRequire(join(root, "x.js"));
const acorn = require("acorn");
const { analyze } = require("eslint-scope");

function* scripts(dir, depth) {
  for (const name of readdirSync(join(root, dir)).sort()) {
    const at = join(dir, name);
    const s = statSync(join(root, at), { throwIfNoEntry: false });
    if (!s) continue;
    if (s.isDirectory() && depth < 5 && !name.startsWith(".")) yield* scripts(at, depth + 1);
    else if (/\.(js|cjs|mjs)$/.test(name) && s.size > 800 && s.size < 400_000) yield at;
  }
}

function read(file) {
  const src = readFileSync(join(root, file), "utf8");
  for (const sourceType of ["script", "module"]) {
    try {
      const tree = acorn.parse(src, { ecmaVersion: "latest", sourceType, ranges: true, allowHashBang: true });
      const scopes = analyze(tree, { ecmaVersion: 2022, sourceType });
      const top = sourceType === "module" ? scopes.globalScope.childScopes[0] : scopes.globalScope;
      const declares = top.variables.filter((v) => v.defs.length).map((v) => v.name);
      const free = scopes.globalScope.through.map((r) => r.identifier.name);
      return { file, declares: [...new Set(declares)].sort(), free: [...new Set(free)].sort() };
    } catch {
      continue; // not a script: perhaps a module
    }
  }
  return null;
}

const perPackage = new Map();
const out = [];
for (const file of scripts("", 0)) {
  const parts = file.split("/");
  const name = parts[0].startsWith("@") ? parts.slice(0, 2).join("/") : parts[0];
  const n = perPackage.get(name) ?? 0;
  if (n >= 3) continue;
  const x = read(file);
  if (!x) continue;
  perPackage.set(name, n + 1);
  out.push(x);
  if (out.length >= Number(count)) break;
}
console.log(JSON.stringify(out));
