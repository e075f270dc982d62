import { span } from "../shared/wording";
/** What the watch of a promotion says, in words. */
import type { Watch, WatchLook } from "./watchQueries";

const reasons: Record<WatchLook["for"][number]["reason"], string> = {
  "first expiry": "The shortest cache time is over",
  "last expiry": "The longest cache time is over",
  expiry: "A cache time is over",
  forms: "Forms on cached pages have aged",
  browsers: "Browser cache times are over",
  routine: "In between, with browser caches filled",
  final: "The end of the watch",
};

/** What a look is for: a title, and what is known of it. */
export function purposes(l: WatchLook): { title: string; why: string; pages: string }[] {
  return l.for.map((c) => ({
    title: reasons[c.reason],
    why: c.why,
    pages: [
      ...(c.pages?.slice(0, 3) ?? []),
      ...((c.pages?.length ?? 0) > 3 ? [`${c.pages!.length - 3} more`] : []),
    ].join(", "),
  }));
}

/** How long after the promotion something is. */
export function after(begun: string, at: string): string {
  const seconds = 60 * Math.round((Date.parse(at) - Date.parse(begun)) / 60_000);
  return seconds < 60 ? "under a minute" : span(seconds);
}

const blames = { change: "of the change", site: "news of the site", "not known": "not known whose" } as const;
export const blame = (b: WatchLook["held"][number]["blame"]) => blames[b];

/** How far a watch is, in one sentence. */
export function sentence(w: Watch): string {
  const made = w.looks.filter((l) => ["clear", "news", "found", "not checked"].includes(l.state)).length;
  const open = w.looks.filter((l) => l.state === "planned" || l.state === "under way").length;
  switch (w.state) {
    case "watching": {
      const found = w.looks.filter((l) => l.state === "found").length;
      const so = found
        ? `${found} of ${made} found something`
        : made
          ? `${made} made, nothing found that is the change’s`
          : "none made yet";
      return `Looks: ${so}; ${open} to come.`;
    }
    case "waits for a person":
      return `Not settled: ${w.why}`;
    default:
      return w.why;
  }
}

/** Where a moment stands on a line from the promotion to the end of the watch, from 0 to 1. The first hour takes as much room as the
 * rest, since most looks are in it: the line is logarithmic in time. */
export function place(w: Watch, at: string): number {
  const scale = (ms: number) => Math.log1p(Math.max(0, ms) / 300_000);
  const begun = Date.parse(w.begun);
  return Math.min(1, scale(Date.parse(at) - begun) / scale(Date.parse(w.ends) - begun || 1));
}
