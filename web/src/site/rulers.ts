import type { Calendar } from "../calendar/queries";
import type { Environment } from "./queries";

/** One thing that happened on an environment, as it is drawn on its ruler. */
export interface Sounding {
  key: string;
  env: number;
  at: number;
  kind:
    | "mark"
    | "try"
    | "promote"
    | "roll back"
    | "check"
    | "isolation test"
    | "recheck"
    | "culprit search"
    | "tidy"
    | "measure"
    | "outside"
    | "running";
  verdict: string;
  number: string;
  title: string;
  run?: number;
  /** Key of the mark a rollback went back to. */
  back?: string;
  column: number;
}

/** How many things are drawn; older ones are in the history. */
const shown = 14;

/**
 * Lays the latest things of all environments on one axis, oldest first: each in a column of its own, or true to time. Each
 * environment has its share of them, however busy another is; what one does not need is for the others.
 */
export function soundings(envs: Environment[], now?: number): Sounding[] {
  const all: Sounding[] = [];
  envs.forEach((e, env) => {
    for (const r of e.runs) {
      if (r.state === "waiting") continue;
      const over = r.finishedAt !== null && r.finishedAt !== undefined;
      const mark = e.marks.find((m) => m.run === r.id);
      const looks = mark?.looks;
      all.push({
        key: `r${r.id}`,
        env,
        at: Date.parse(r.finishedAt ?? r.startedAt ?? r.createdAt),
        kind: over ? (r.kind as Sounding["kind"]) : "running",
        verdict: over ? r.verdict || "not checked" : "running",
        number: looks ? String(looks.done - looks.failed) : "",
        title: over ? r.summary : `${r.kind} under way`,
        run: r.id,
        back: r.kind === "roll back" ? markKey(e, r.target, r.id) : undefined,
        column: 0,
      });
    }
    for (const a of e.acts) {
      if (a.kind === "outside")
        all.push({
          key: `a${a.id}`,
          env,
          at: Date.parse(a.at),
          kind: "outside",
          verdict: "outside",
          number: "",
          title: a.note,
          column: 0,
        });
    }
  });
  all.sort((a, b) => a.at - b.at);
  const share = Math.floor(shown / Math.max(1, envs.length));
  const own = new Set(envs.flatMap((_, env) => all.filter((s) => s.env === env).slice(-share)));
  const rest = all.filter((s) => !own.has(s)).slice(own.size - shown || all.length);
  const latest = all.filter((s) => own.has(s) || rest.includes(s));
  const first = latest[0]?.at ?? 0;
  latest.forEach((s, i) => {
    s.column = now && now > first ? ((latest.length - 1) * (s.at - first)) / (now - first) : i;
  });
  return latest;
}

/** Which of the things have room for what is written below them: the latest first, none over another's. */
export function lettered(points: Sounding[], step: number, room: number): Set<string> {
  const out = new Set<string>();
  const last = new Map<number, number>();
  for (const p of [...points].reverse()) {
    const at = p.column * step;
    if (at > (last.get(p.env) ?? Infinity) - room) continue;
    out.add(p.key);
    last.set(p.env, at);
  }
  return out;
}

const hour = 3_600_000;
const spans = [1, 3, 6, 12, 24, 48, 7 * 24, 14 * 24, 28 * 24, 91 * 24, 182 * 24, 364 * 24].map((h) => h * hour);

/** Moments at equal distances between two, some to a dozen of them, in whole hours or days of local time. */
export function timeTicks(from: number, to: number): number[] {
  if (to <= from) return [];
  const span = spans.find((s) => (to - from) / s <= 10) ?? (to - from) / 10;
  const start = new Date(from);
  if (span >= 24 * hour) start.setHours(0, 0, 0, 0);
  else start.setHours(start.getHours() - (start.getHours() % Math.max(1, span / hour)), 0, 0, 0);
  const out: number[] = [];
  for (let t = start.getTime(); t <= to; t += span) if (t >= from) out.push(t);
  return out;
}

function markKey(e: Environment, fingerprint: string, before: number) {
  const m = e.marks.find((m) => m.fingerprint === fingerprint && m.run < before);
  return m && `r${m.run}`;
}

/** A freeze, as far as it lies before the present: from where to where, in columns. */
export interface Frozen {
  key: string;
  title: string;
  from: number;
  to: number;
}

/** Where a moment is on the axis of what is drawn, in columns: between the two things that it lies between. */
export function columnAt(points: Sounding[], at: number, now: number): number {
  if (at >= now) return points.length;
  const next = points.findIndex((p) => p.at > at);
  if (next === 0) return 0;
  const before = points[(next < 0 ? points.length : next) - 1];
  if (!before) return 0;
  const [from, to] = [before.at, next < 0 ? now : points[next]!.at];
  const [x, y] = [before.column + 0.5, next < 0 ? points.length : points[next]!.column + 0.5];
  return x + (y - x) * (to > from ? (at - from) / (to - from) : 0);
}

/** The freezes that lie, or begin, before the present. */
export function frozen(c: Calendar, points: Sounding[], now: number): Frozen[] {
  return c.occurrences.flatMap((o) => {
    const entry = c.entries.find((e) => e.id === o.entry);
    if (entry?.entry.kind !== "freeze" || Date.parse(o.begins) >= now) return [];
    const from = columnAt(points, Date.parse(o.begins), now);
    const to = columnAt(points, Date.parse(o.ends), now);
    return to > from ? [{ key: `${o.entry}-${o.begins}`, title: entry.entry.title, from, to }] : [];
  });
}

/** What happened, in a word. */
export const word: Record<string, string> = {
  mark: "marked",
  try: "tried",
  promote: "promoted",
  "roll back": "rolled back",
  check: "checked",
  "isolation test": "isolation tested",
  recheck: "rechecked",
  "culprit search": "searched",
  tidy: "tidied",
  measure: "measured",
  outside: "outside",
  running: "under way",
};
