import type { Schemas } from "../api/client";

export type Comparison = Schemas["MeasuredComparison"];

/** A value of a unit as a person reads it. */
export function valueOf(unit: string, v: number): string {
  if (unit === "ms") return Math.abs(v) >= 1000 ? `${(v / 1000).toFixed(1)} s` : `${Math.round(v)} ms`;
  if (unit === "bytes") return Math.abs(v) >= 1e6 ? `${(v / 1e6).toFixed(1)} MB` : `${(v / 1e3).toFixed(1)} kB`;
  return Number.isInteger(v) ? String(v) : v.toFixed(2);
}

/** A difference, with its sign. */
export function differenceOf(unit: string, v: number): string {
  return (v < 0 ? "−" : "+") + valueOf(unit, Math.abs(v));
}

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

/** Comparisons over all pages on one device, the worse ones first, then the better ones. */
export function overall(list: Comparison[], device: string): Comparison[] {
  const rank: Record<string, number> = { worse: 0, better: 1 };
  return list
    .filter((c) => c.device === device && !c.page)
    .sort((a, b) => (rank[a.result] ?? 2) - (rank[b.result] ?? 2));
}
