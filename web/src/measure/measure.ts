import { valueOf } from "../shared/wording";
import type { Schemas } from "../api/client";

export type Comparison = Schemas["MeasuredComparison"];

/** When a session window of layout shifts began and ended, after the navigation. */
export function shiftSpan(w: { from: number; to: number }): string {
  const [from, to] = [valueOf("ms", w.from), valueOf("ms", w.to)];
  return from === to ? `at ${from}` : `from ${from} to ${to}`;
}

/** What a comparison came to, in words: too noisy is said only once there are enough rounds for anything to be shown. */
export function resultOf(c: Pick<Comparison, "result" | "runs">, over: boolean): string {
  if (c.runs < fewest && (!c.result || c.result === "too noisy"))
    return over ? "too few loads to say" : "not decided yet";
  return c.result || (over ? "too few loads to say" : "not decided yet");
}

/** How many rounds there have to be before anything is said. */
const fewest = 5;

/** How far the scale of some comparisons reaches to each side of “as before”: a part of the value before, at most all of it. */
export function reach(list: Comparison[]): number {
  const parts = list.flatMap((c) => (c.interval && c.before ? c.interval.map((v) => Math.abs(v / c.before)) : []));
  return Math.min(1, Math.max(0.05, ...parts));
}

/** Where an interval lies on that scale, from 0 at its left to 100 at its right; nothing when there is none. */
export function place(c: Comparison, far: number): { left: number; width: number; at: number } | undefined {
  if (!c.interval || !c.before) return undefined;
  const on = (v: number) => Math.min(100, Math.max(0, 50 + (50 * v) / c.before / far));
  const [low, high] = [on(c.interval[0]!), on(c.interval[1]!)];
  return { left: low, width: Math.max(1, high - low), at: on(c.shift) };
}

/** What was measured apart from each other, in words, the usual cases first. */
export function casesOf(list: Comparison[]): string[] {
  return [...new Set(list.filter((c) => !c.page).map((c) => c.case))];
}

/** Comparisons over all pages in one case, the worse ones first, then the better ones. */
export function overall(list: Comparison[], of: string): Comparison[] {
  const rank: Record<string, number> = { worse: 0, better: 1 };
  return list.filter((c) => c.case === of && !c.page).sort((a, b) => (rank[a.result] ?? 2) - (rank[b.result] ?? 2));
}

/** Where a published threshold lies on the scale of a comparison; nothing when it is off it, or none is published. */
export function thresholdAt(c: Comparison, far: number): number | undefined {
  if (!c.good || !c.before) return undefined;
  const at = 50 + (50 * (c.good - c.before)) / c.before / far;
  return at > 1 && at < 99 ? at : undefined;
}

/** Where something lies on a time axis, from 0 to 100. */
export function onAxis(at: number, end: number): number {
  return end > 0 ? Math.min(100, Math.max(0, (100 * at) / end)) : 0;
}

/** The end of a time axis: the next round figure after the last moment, in milliseconds. */
export function axisEnd(moments: number[]): number {
  const last = Math.max(100, ...moments);
  const step = last > 8000 ? 2000 : last > 3000 ? 1000 : last > 1200 ? 500 : 200;
  return Math.ceil(last / step) * step;
}

/** The frame that a window shows at a moment: the last that came by then. */
export function frameAt<T extends { at: number }>(frames: T[], moment: number): T | undefined {
  let shown: T | undefined;
  for (const f of frames) if (f.at <= moment) shown = f;
  return shown;
}
