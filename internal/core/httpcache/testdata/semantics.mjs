// Judges exchanges with npm's http-cache-semantics: node semantics.mjs MODULES < exchanges.json
import { readFileSync } from "node:fs";
import { createRequire } from "node:module";
const require = createRequire(process.argv[2] + "/");
const Policy = require("http-cache-semantics");
const list = JSON.parse(readFileSync(0, "utf8"));
const judged = list.map((e) => {
  let now = e.received;
  class At extends Policy {
    now() {
      return now;
    }
  }
  const p = new At({ method: e.method, url: "/", headers: { host: "a", ...e.request } }, { status: e.status, headers: e.response }, { shared: e.shared });
  now = e.asked;
  return { storable: p.storable(), fresh: p.storable() && !p.stale() };
});
console.log(JSON.stringify(judged));
