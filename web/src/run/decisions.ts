import type { Finding } from "./queries";

export type Reach = "place" | "part" | "cause";

const counts = (f: Finding) => f.kind !== "not-checked" && f.severity !== "note";

/** The findings of a run that come of the same cause. */
export function ofCause(f: Finding, all: Finding[]): Finding[] {
  return all.filter((g) => counts(g) && g.cause === f.cause);
}

/** The findings of a run that are the same difference at other places, this one with them. */
export function ofPart(f: Finding, all: Finding[]): Finding[] {
  return all.filter((g) => counts(g) && g.kind === f.kind && g.part === f.part && g.title === f.title);
}

/** Whether a finding can be accepted for longer than one run. */
export const lasts = (f: Finding) => !["cache-leak", "wrong-variant", "not-checked"].includes(f.kind);

/** Whether the part of the page that a finding is about can be masked. */
export const canMask = (f: Finding) => counts(f) && (f.kind === "picture" || f.kind === "content");

/** The selector of the element that a picture finding is about, "" for others. */
export function selectorOf(f: Finding): string {
  const part = f.part ?? "";
  return f.kind === "picture" && part.startsWith("picture: ") ? part.slice("picture: ".length) : "";
}

/** The next finding after one that still waits for somebody, round to the first; undefined without any. */
export function nextOpen(list: Finding[], after: number | undefined): Finding | undefined {
  const at = list.findIndex((f) => f.id === after);
  const round = [...list.slice(at + 1), ...list.slice(0, at + 1)];
  return round.find((f) => counts(f) && f.state !== "accepted");
}
