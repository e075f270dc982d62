/** Notices in words, and what somebody chose of them. */
import type { Choice, Choices, Notice } from "./queries";

export const topicWord: Record<Notice["topic"], string> = {
  broken: "Production may be broken",
  back: "Automatic rollback",
  unknown: "Settings unknown",
  asked: "Approval asked for",
  decided: "Approval decided",
  mentioned: "Mentions",
  outside: "Changed outside",
  tidied: "Scheduled tidy",
  rollout: "Rollout",
  settled: "Watch over",
  finished: "Run ended",
};

export const howWord: Record<Choice["how"], string> = {
  "at once": "by mail, at once",
  daily: "in the daily mail",
  here: "here only",
  never: "not at all",
  default: "as for all sites",
};

/** How a topic reaches somebody on a site (0: on all of which nothing else is said), and what that would be without a choice. */
export function chosen(
  c: Choices,
  site: number,
  topic: Notice["topic"],
): { how: Choice["how"]; otherwise: Choice["how"] } {
  const of = (s: number) => c.choices.find((x) => (x.site ?? 0) === s && x.topic === topic)?.how;
  const shipped = c.topics.find((t) => t.topic === topic)!.default as Choice["how"];
  const all = of(0) ?? shipped;
  if (!site) return { how: of(0) ?? "default", otherwise: shipped };
  return { how: of(site) ?? "default", otherwise: all };
}

/** What a notice says beyond its title, which is its first sentence unless that is too long. */
export function rest(n: Pick<Notice, "title" | "text">): string {
  return n.text.startsWith(n.title) ? n.text.slice(n.title.length).replace(/^\.\s*/, "") : n.text;
}
