import type { Schemas } from "../api/client";

export type Candidate = NonNullable<Schemas["Proof"]["candidates"]>[number];
type Excluded = Schemas["Excluded"];

/** The candidates that are ticked; one without a pattern only says into which list somebody may write. */
export function ticked(candidates: Candidate[], ticks: boolean[]): Excluded[] {
  return candidates.filter((c, i) => ticks[i] && c.pattern).map(({ key, pattern }) => ({ key, pattern }));
}

/** With what somebody wrote themselves, unless it is there already. */
export function withOwn(all: Excluded[], own: Excluded): Excluded[] {
  const pattern = own.pattern.trim();
  if (!pattern || !own.key || all.some((e) => e.key === own.key && e.pattern === pattern)) return all;
  return [...all, { key: own.key, pattern }];
}
