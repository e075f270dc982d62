// Holds a HAR file on standard input against the schemas of npm's har-schema.
import { createRequire } from "node:module";
import { readFileSync } from "node:fs";

const require = createRequire(process.argv[2] + "/");
const Ajv = require("ajv");
const schemas = require("har-schema");
const ajv = new Ajv({ allErrors: true, meta: false, schemaId: "auto" });
ajv.addMetaSchema(require("ajv/lib/refs/json-schema-draft-06.json"));
for (const s of Object.values(schemas)) ajv.addSchema(s);
const valid = ajv.validate("har.json", JSON.parse(readFileSync(0, "utf8")));
console.log(valid ? "valid" : JSON.stringify(ajv.errors, null, 1));
process.exit(valid ? 0 : 1);
