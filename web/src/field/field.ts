import type { Schemas } from "../api/client";

type Day = Schemas["Day"];

/** Days from one to another, both included, as 2026-11-27. */
export function daysBetween(from: string, to: string): string[] {
  const out: string[] = [];
  for (let t = Date.parse(from); t <= Date.parse(to); t += 86_400_000) out.push(new Date(t).toISOString().slice(0, 10));
  return out;
}

/** A scale that shows some values, and the thresholds when they are near: its top, and round steps up to there. */
export function scaleOf(values: number[], thresholds: number[]): { top: number; ticks: number[] } {
  const most = Math.max(0, ...values);
  const near = thresholds.filter((t) => t > 0 && t < 1.35 * most);
  const top = Math.max(most, ...near) * 1.12 || 1;
  const size = 10 ** Math.floor(Math.log10(top / 4));
  const step = [5, 2, 1].map((n) => n * size).find((n) => n <= top / 4) ?? size;
  const count = Math.ceil(top / step);
  return { top: count * step, ticks: Array.from({ length: count + 1 }, (_, i) => i * step) };
}

/** Unbroken stretches of days, so that a line is not drawn across days of which nothing is known. */
export function stretches<T extends { day: string }>(days: T[]): T[][] {
  const out: T[][] = [];
  for (const d of days) {
    const last = out.at(-1)?.at(-1);
    if (last && Date.parse(d.day) - Date.parse(last.day) <= 86_400_000) out.at(-1)!.push(d);
    else out.push([d]);
  }
  return out;
}

/** Which part of a day's page views was good, middling and poor, 0 to 1. */
export function parts(d: Pick<Day, "good" | "middling" | "poor">): { good: number; middling: number; poor: number } {
  const all = d.good + d.middling + d.poor || 1;
  return { good: d.good / all, middling: d.middling / all, poor: d.poor / all };
}

/** What a page has to have in it so that its visitors tell. */
export function snippet(address: string): string {
  return `<script src="${address}" defer></script>`;
}
