import type { Run } from "./queries";

/** One phase of a run that is under way. */
export interface Phase {
  name: string;
  when: "past" | "here" | "to come";
}

const usual: Partial<Record<Run["kind"], string[]>> = {
  "culprit search": ["reading", "searching", "putting back"],
  measure: ["reading", "measuring"],
  "isolation test": ["reading", "signing in", "probing"],
  mark: ["reading", "purging", "warming", "looking", "probing"],
  check: ["reading", "purging", "warming", "looking", "probing"],
};
const ofAChange = ["reading", "applying", "purging", "warming", "looking", "probing"];

/** What a phase is called that is not called as it is stored. */
const names: Record<string, string> = {
  "by hand": "checklist",
  "putting back": "restoring",
  rebuilding: "first visitor",
  returning: "returning visitor",
};

/** The usual phase after which one comes that not every run has; undefined for the last. */
function after(phase: string, looked: boolean): string | undefined {
  if (phase === "by hand" || (!looked && ["control", "returning", "signing in"].includes(phase))) return "reading";
  if (phase === "unknown") return "applying"; // what that came to
  return ["returning", "rebuilding"].includes(phase) ? "looking" : undefined;
}

/** The phases that a run goes through, in their order: the usual ones, and the one it is in. Without a phase it has not begun. */
export function phasesOf(run: Pick<Run, "kind" | "phase" | "progress">): Phase[] {
  const all = [...(usual[run.kind] ?? ofAChange)];
  if (run.phase && !all.includes(run.phase)) {
    const i = all.indexOf(after(run.phase, (run.progress.looks?.done ?? 0) > 0) ?? "");
    all.splice(i < 0 ? all.length : i + 1, 0, run.phase);
  }
  const here = all.indexOf(run.phase);
  return all.map((p, i) => ({ name: names[p] ?? p, when: i < here ? "past" : i === here ? "here" : "to come" }));
}
