import type { components } from "../api/schema.gen";

export type Spent = components["schemas"]["Spent"];
export type Made = Pick<components["schemas"]["PageProof"], "spent" | "earlier" | "noted" | "undecoded">;

/** What each part of a look's time was spent on, in the order in which it happens. */
const names: [keyof Spent, string][] = [
  ["opening", "opening a private browser"],
  ["network", "the site’s answers"],
  ["clock", "the page’s own scripts and timers"],
  ["waiting", "waiting for what had stalled"],
  ["painting", "painting"],
  ["reading", "reading the page"],
];

export const total = (s: Spent): number => names.reduce((sum, [key]) => sum + s[key], 0);

/** The parts with their milliseconds and their share of the whole. */
export function parts(s: Spent): { name: string; ms: number; share: number }[] {
  const all = total(s) || 1;
  return names.map(([key, name]) => ({ name, ms: s[key], share: s[key] / all }));
}

/** What most of the time was spent on. */
export function longest(s: Spent): string {
  return parts(s).reduce((most, p) => (p.ms > most.ms ? p : most)).name;
}
