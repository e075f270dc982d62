import type { Offer, Rollout, RolloutSite, Terms } from "./queries";
import { counted } from "../shared/wording";

/** A site that may be chosen, with what was chosen for it. */
export interface Chosen {
  offer: Offer;
  take: boolean;
  wave: number;
  /** Keys whose values somebody says are right there. */
  confirmed: string[];
}

/** What a site would get: all that fits but what nobody confirmed. */
export function taken(c: Pick<Chosen, "offer" | "confirmed">) {
  return c.offer.fit.mapped.filter((m) => !m.confirm || c.confirmed.includes(m.key));
}

/** One site first, then up to three, then all others: in the order in which they were chosen. */
export function waveOf(place: number): number {
  return 1 + Math.min(place, 1) + Math.min(Math.floor(place / 4), 1);
}

/** Gives a site that is taken now the wave of its place among those that are. */
export function numbered(all: Chosen[]): void {
  let place = 0;
  for (const c of all) if (c.take) c.wave = waveOf(place++);
}

/** What keeps a rollout from being begun, in words; "" when nothing does. */
export function lacking(title: string, all: Chosen[]): string {
  const chosen = all.filter((c) => c.take);
  if (!title.trim()) return "Give it a title.";
  if (!chosen.length) return "Choose at least one site.";
  const empty = chosen.find((c) => !taken(c).length);
  if (empty) return `${empty.offer.name}: tick what is right there, or nothing is copied.`;
  if (chosen.some((c) => !Number.isInteger(c.wave) || c.wave < 1 || c.wave > 20))
    return "Waves are numbers from 1 to 20.";
  return "";
}

export function termsOf(
  words: { title: string; reason: string; pace: Terms["pace"]; measures: boolean },
  all: Chosen[],
): Terms {
  return {
    title: words.title.trim(),
    reason: words.reason.trim() || undefined,
    pace: words.pace,
    measures: words.measures || undefined,
    sites: all
      .filter((c) => c.take)
      .map((c) => ({ site: c.offer.site, wave: c.wave, confirmed: c.confirmed.length ? c.confirmed : undefined })),
  };
}

const stages: Record<RolloutSite["stage"], { sign: string; word: string }> = {
  waiting: { sign: "wave", word: "waits to be tried" },
  trying: { sign: "running", word: "being tried" },
  "not clear": { sign: "unsure", word: "not clear on staging" },
  tried: { sign: "clear", word: "clear on staging" },
  promoting: { sign: "running", word: "being promoted" },
  broken: { sign: "broken", word: "not clear on production" },
  there: { sign: "clear", word: "on production" },
  settled: { sign: "settled", word: "settled" },
  skipped: { sign: "stopped", word: "skipped" },
  discarded: { sign: "stopped", word: "discarded" },
  "has it all": { sign: "clear", word: "already has it" },
};
export const stageOf = (s: RolloutSite) => stages[s.stage];

/** What a rollout is at, in a sentence. */
export function stands(r: Rollout): string {
  const n = (stage: RolloutSite["stage"][]) => r.members.filter((m) => stage.includes(m.stage)).length;
  if (r.state === "ended") return r.why;
  if (r.state === "stopped") return `Stopped. ${r.why}`;
  if (r.state === "going") return `Wave ${r.wave} is being promoted; the next follows ${after(r)}.`;
  const tried = n(["tried"]);
  const under = n(["waiting", "trying"]);
  const said = `${tried} of ${counted(r.members.length, "site")} clear on staging`;
  return `${said}${under ? `, ${under} still to come` : ""}. Nothing is promoted until somebody releases it.`;
}
export const after = (r: Pick<Rollout, "pace">) =>
  r.pace === "watch" ? "when its watches are over and clear" : "when its checks are clear";
