import type { Finding } from "./queries";
import { counted } from "../shared/wording";

/** Findings of one cause, as they are listed together. */
export interface Cause {
  cause: string;
  kind: string;
  severity: string;
  title: string;
  findings: Finding[];
  /** How many of them come of the others. */
  symptoms: number;
  /** What looks with the earlier settings said of it. */
  control?: string;
  /** Which pages and devices it was seen on, in words. */
  where: string;
}

const rank: Record<string, number> = { broken: 0, unsure: 1, note: 2 };

/**
 * Groups findings by cause, the worst first, and of those what is shown to somebody else. The server sent them in order:
 * in a cause what comes of it last.
 */
export function byCause(findings: Finding[]): Cause[] {
  const out = new Map<string, Cause>();
  for (const f of findings) {
    const c = out.get(f.cause) ?? {
      cause: f.cause,
      kind: f.kind,
      severity: f.severity,
      title: f.title,
      control: f.control?.outcome,
      findings: [],
      symptoms: 0,
      where: "",
    };
    c.findings.push(f);
    if (f.symptom) c.symptoms++;
    if ((rank[f.severity] ?? 3) < (rank[c.severity] ?? 3)) c.severity = f.severity;
    out.set(f.cause, c);
  }
  const list = [...out.values()];
  for (const c of list) c.where = where(c.findings);
  const leak = (c: Cause) => (c.findings.some((f) => f.kind === "cache-leak" && f.severity !== "note") ? 0 : 1);
  return list.sort((a, b) => (rank[a.severity] ?? 3) - (rank[b.severity] ?? 3) || leak(a) - leak(b));
}

function where(findings: Finding[]) {
  const pages = [...new Set(findings.map((f) => f.page))];
  const devices = [...new Set(findings.map((f) => f.device))];
  const people = [...new Set(findings.map((f) => f.persona))];
  const page = pages.length === 1 ? pages[0]! : counted(pages.length, "page");
  return [page, devices.join(" and "), people.length === 1 && people[0] === "visitor" ? "" : people.join(", ")]
    .filter(Boolean)
    .join(" · ");
}

/** What is said of a cause under its title. */
export function aboutCause(c: Cause) {
  const symptoms = c.symptoms ? counted(c.symptoms, "symptom") : "";
  return [kindNames[c.kind] ?? c.kind, c.where, symptoms, controlWords[c.control ?? ""]].filter(Boolean).join(" · ");
}

/** Where a finding is, in a line under its cause. */
export function placeOf(f: Finding) {
  const kind = f.symptom ? `↳ ${kindNames[f.kind] ?? f.kind}: ` : "";
  const who = f.persona === "visitor" ? "" : ` · ${f.persona}`;
  return `${kind}${f.page} · ${f.device}${who}${f.state === "accepted" ? " · accepted" : ""}`;
}

/** What a control showed, beside a finding's name. */
export const controlWords: Record<string, string> = {
  gone: "gone with the earlier settings",
  came: "not there before",
  remains: "there before, too",
  random: "comes and goes",
};

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
