import type { Finding } from "../api/queries";

/** Findings of one cause, as they are listed together. */
export interface Cause {
  cause: string;
  kind: string;
  severity: string;
  title: string;
  findings: Finding[];
  /** Which pages and devices it was seen on, in words. */
  where: string;
}

const rank: Record<string, number> = { broken: 0, unsure: 1, note: 2 };

/** Groups findings by cause, the worst first, and of those what is shown to somebody else; the server sent them in that order. */
export function byCause(findings: Finding[]): Cause[] {
  const out = new Map<string, Cause>();
  for (const f of findings) {
    const key = `${f.severity} ${f.cause}`;
    const c = out.get(key) ?? {
      cause: key,
      kind: f.kind,
      severity: f.severity,
      title: f.title,
      findings: [],
      where: "",
    };
    c.findings.push(f);
    out.set(key, c);
  }
  const list = [...out.values()];
  for (const c of list) c.where = where(c.findings);
  const leak = (c: Cause) => (c.kind === "cache-leak" ? 0 : 1);
  return list.sort((a, b) => (rank[a.severity] ?? 3) - (rank[b.severity] ?? 3) || leak(a) - leak(b));
}

function where(findings: Finding[]) {
  const pages = [...new Set(findings.map((f) => f.page))];
  const devices = [...new Set(findings.map((f) => f.device))];
  const people = [...new Set(findings.map((f) => f.persona))];
  const page = pages.length === 1 ? pages[0]! : `${pages.length} pages`;
  return [page, devices.join(" and "), people.length === 1 && people[0] === "visitor" ? "" : people.join(", ")]
    .filter(Boolean)
    .join(" · ");
}

/** Names of the kinds, as people say them. */
export const kindNames: Record<string, string> = {
  picture: "looks different",
  journey: "journey",
  "script-error": "script error",
  request: "request",
  "missing-resource": "missing file",
  "layout-shift": "layout shift",
  "cache-leak": "shown to others",
  "cache-policy": "page cache",
  "stale-content": "old content",
  "wrong-variant": "wrong page",
  "form-refused": "form refused",
  content: "text",
  metric: "measure",
  "not-checked": "not looked at",
};
