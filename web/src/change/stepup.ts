import type { Schemas } from "../api/client";

type Step = Schemas["StepUpStep"];

/** A setting of a step by its title. */
export const titleOf = (s: Step, key: string) => s.titles[key] ?? key;

/** Exclusions of a step, by the setting that they let stay. */
export function staysWith(s: Step): { title: string; patterns: string[] }[] {
  const by = new Map<string, string[]>();
  for (const x of s.excluded ?? []) by.set(x.for, [...(by.get(x.for) ?? []), x.pattern]);
  return [...by].map(([key, patterns]) => ({ title: titleOf(s, key), patterns }));
}

/** What a step-up is doing, in a sentence. */
export function doing(c: Schemas["StepUpView"]): string {
  if (c.phase === "over") return c.summary;
  if (c.stopping) return "Stopping.";
  if (c.waits) return `It waits. ${c.waits}`;
  const bundle = c.bundles?.[c.level] ?? "";
  if (c.phase === "searching") return `Finding which setting of ${bundle} breaks it.`;
  if (c.phase === "confirming") return "Everything proven is tried once more together.";
  return bundle ? `${bundle} is being tried.` : "It starts in a moment.";
}
