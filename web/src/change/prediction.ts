import type { Schemas } from "../api/client";
import { counted } from "../shared/wording";

export type Prediction = Schemas["Prediction"];

/** The pages of a prediction, each once. */
export function pagesOf(p: Prediction): string[] {
  return [...new Set((p.places ?? []).map((at) => at.page))];
}

/** Patterns to exclude, by the setting whose list takes them. */
export function byList(p: Prediction): { key: string; title: string; patterns: string[] }[] {
  const lists = new Map<string, { key: string; title: string; patterns: string[] }>();
  for (const e of p.exclude ?? []) {
    const list = lists.get(e.key) ?? { key: e.key, title: e.title, patterns: [] };
    list.patterns.push(e.pattern);
    lists.set(e.key, list);
  }
  return [...lists.values()];
}

/** How often predictions were right on a site, in a sentence; nothing while no run has shown it. */
export function recordOf(r: Schemas["PredictionRecord"]): string {
  if (!r.runs) return "";
  const runs = r.runs === 1 ? "one run" : `${r.runs} runs`;
  const missed = counted(r.missed, "cause was", "causes were");
  return `In ${runs} here ${r.right} of ${r.right + r.wrong} such predictions came true; ${missed} found that nothing had predicted.`;
}
