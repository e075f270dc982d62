import { describe, expect, it } from "vitest";
import type { Offer, Rollout, RolloutSite } from "./queries";
import { lacking, numbered, stands, taken, termsOf, type Chosen } from "./rollouts";

const from = { key: "k", title: "K", role: "js-defer", type: "switch" as const, value: true };
function offer(site: number, confirm = false): Offer {
  const mapped = [{ from, key: "deferred", title: "Defer", now: false, value: true, confirm }];
  return { site, name: `Site ${site}`, labels: [], fit: { mapped, same: 0, without: [] }, why: "" };
}
const chosen = (n: number): Chosen[] =>
  Array.from({ length: n }, (_, i) => ({ offer: offer(i + 1), take: true, wave: 0, confirmed: [] }));

describe("choosing sites", () => {
  it("numbers those that are taken: one, then three, then the others", () => {
    const all = chosen(7);
    all[1]!.take = false;
    numbered(all);
    expect(all.filter((c) => c.take).map((c) => c.wave)).toEqual([1, 2, 2, 2, 3, 3]);
  });

  it("copies what names something of the other site only when somebody said that it is right", () => {
    const c: Chosen = { offer: offer(1, true), take: true, wave: 1, confirmed: [] };
    expect(taken(c)).toEqual([]);
    expect(lacking("T", [c])).toBe("Site 1: tick what is right there, or nothing is copied.");
    c.confirmed = ["deferred"];
    expect(lacking("T", [c])).toBe("");
    expect(termsOf({ title: " T ", reason: "", pace: "check", measures: false }, [c])).toEqual({
      title: "T",
      reason: undefined,
      pace: "check",
      measures: undefined,
      sites: [{ site: 1, wave: 1, confirmed: ["deferred"] }],
    });
  });

  it("says what is missing", () => {
    expect(lacking(" ", chosen(1))).toBe("Give it a title.");
    expect(lacking("T", [])).toBe("Choose at least one site.");
    const [c] = chosen(1);
    c!.wave = 0.5;
    expect(lacking("T", [c!])).toBe("Waves are numbers from 1 to 20.");
  });
});

describe("what a rollout is at", () => {
  const member = (stage: RolloutSite["stage"]) => ({ stage }) as RolloutSite;
  const rollout = (state: Rollout["state"], ...stages: RolloutSite["stage"][]) =>
    ({ state, why: "Shop 2: it was broken.", wave: 2, pace: "watch", members: stages.map(member) }) as Rollout;
  it("is one sentence", () => {
    expect(stands(rollout("open", "tried", "trying", "not clear"))).toBe(
      "1 of 3 sites clear on staging, 1 still to come. Nothing is promoted until somebody releases it.",
    );
    expect(stands(rollout("going", "there", "promoting"))).toBe(
      "Wave 2 is being promoted; the next follows when its watches are over and clear.",
    );
    expect(stands(rollout("stopped", "broken"))).toBe("Stopped. Shop 2: it was broken.");
  });
});
