import { calendarDay } from "../shared/wording";
import type { Calendar, EntryWords } from "./queries";

/** A stretch of one day, in parts of it. */
export interface Stretch {
  entry: number;
  kind: "freeze" | "window";
  title: string;
  from: number;
  to: number;
}

/** One day as it is drawn, midnight to midnight in the reader's zone. */
export interface Day {
  start: Date;
  stretches: Stretch[];
  going: { change: number; title: string; site: string; at: number; done: boolean }[];
  /** Where the present is, when it is this day. */
  now?: number;
}

const midnight = (t: Date, days = 0) => new Date(t.getFullYear(), t.getMonth(), t.getDate() + days);

/** The days of a calendar from one on, with what holds on each; with the names of sites where it is about several. */
export function daysOf(c: Calendar, first: Date, count: number, now: Date, named = false): Day[] {
  const entries = new Map(c.entries.map((e) => [e.id, e]));
  return Array.from({ length: count }, (_, i) => {
    const start = midnight(first, i);
    const end = midnight(first, i + 1);
    const part = (t: Date) => (t.getTime() - start.getTime()) / (end.getTime() - start.getTime());
    const within = (t: Date) => t >= start && t < end;
    const day: Day = { start, stretches: [], going: [] };
    for (const o of c.occurrences) {
      const e = entries.get(o.entry);
      const from = Math.max(0, part(new Date(o.begins)));
      const to = Math.min(1, part(new Date(o.ends)));
      if (e && to > from)
        day.stretches.push({
          entry: e.id,
          kind: e.entry.kind,
          title: (named && e.siteName ? `${e.siteName}: ` : "") + e.entry.title,
          from,
          to,
        });
    }
    // Freezes are drawn over windows: they count where both are.
    day.stretches.sort((a, b) => Number(a.kind === "freeze") - Number(b.kind === "freeze"));
    for (const g of c.going)
      if (g.done && within(new Date(g.at)))
        day.going.push({ change: g.change, title: g.title, site: g.siteName, at: part(new Date(g.at)), done: true });
    if (within(now)) day.now = part(now);
    return day;
  });
}

/** How an entry recurs, as far as the form has words for it. */
export interface Again {
  how: "once" | "daily" | "weekly" | "monthly" | "yearly" | "rule";
  days: string[];
  until: string;
  rule: string;
}

export const weekdays = ["MO", "TU", "WE", "TH", "FR", "SA", "SU"];
const words = ["Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday"];
const byWord: Record<string, string> = Object.fromEntries(weekdays.map((d, i) => [d, words[i]!]));

/** The recurrence rule (RFC 5545) of what was chosen. */
export function ruleOf(a: Again): string {
  if (a.how === "once") return "";
  if (a.how === "rule") return a.rule.trim();
  const until = a.until ? `;UNTIL=${a.until.replaceAll("-", "")}T235959` : "";
  const days =
    a.how === "weekly" && a.days.length ? `;BYDAY=${weekdays.filter((d) => a.days.includes(d)).join(",")}` : "";
  return `FREQ=${a.how.toUpperCase()}${days}${until}`;
}

/** What was chosen to get a rule; the rule itself when the form has no words for it. */
export function againOf(rule: string): Again {
  const none: Again = { how: "once", days: [], until: "", rule };
  if (!rule) return none;
  const m = /^FREQ=(DAILY|WEEKLY|MONTHLY|YEARLY)(?:;BYDAY=([A-Z,]+))?(?:;UNTIL=(\d{4})(\d\d)(\d\d)T235959)?$/.exec(
    rule,
  );
  const how = m?.[1]?.toLowerCase() as Again["how"] | undefined;
  if (!m || !how || (m[2] && how !== "weekly")) return { ...none, how: "rule" };
  return { how, days: m[2]?.split(",") ?? [], until: m[3] ? `${m[3]}-${m[4]}-${m[5]}` : "", rule };
}

/** How an entry recurs, in words. */
export function againSaid(rule: string): string {
  const a = againOf(rule);
  const until = a.until ? ` until ${calendarDay(a.until)}` : "";
  switch (a.how) {
    case "once":
      return "once";
    case "weekly":
      return `each ${a.days.length ? a.days.map((d) => byWord[d] ?? d).join(", ") : "week"}${until}`;
    case "daily":
      return `each day${until}`;
    case "monthly":
      return `each month${until}`;
    case "yearly":
      return `each year${until}`;
    default:
      return `by ${rule}`;
  }
}

/** From when to when the first time is, in the entry's own zone. */
export function timesOf(e: EntryWords): string {
  const say = (s: string) => ({ day: calendarDay(s.slice(0, 10)), clock: s.slice(11) });
  const from = say(e.begins);
  const to = say(e.ends);
  return `${from.day}, ${from.clock} to ${to.day === from.day ? "" : `${to.day}, `}${to.clock}`;
}
