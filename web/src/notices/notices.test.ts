import { describe, expect, it } from "vitest";
import type { Choices } from "./queries";
import { chosen, rest } from "./notices";

const c = {
  topics: [
    { topic: "broken", text: "", personal: false, default: "at once" },
    { topic: "settled", text: "", personal: false, default: "daily" },
  ],
  choices: [
    { topic: "broken", how: "daily" },
    { topic: "broken", how: "never", site: 7 },
  ],
} as unknown as Choices;

describe("how a topic reaches somebody", () => {
  it("is what they chose for the site", () =>
    expect(chosen(c, 7, "broken")).toEqual({ how: "never", otherwise: "daily" }));
  it("is what they chose for all sites where they said nothing of one", () =>
    expect(chosen(c, 8, "broken")).toEqual({ how: "default", otherwise: "daily" }));
  it("is what the topic says where they chose nothing", () => {
    expect(chosen(c, 0, "settled")).toEqual({ how: "default", otherwise: "daily" });
    expect(chosen(c, 7, "settled")).toEqual({ how: "default", otherwise: "daily" });
  });
});

describe("a notice", () => {
  it("says its title once", () => {
    expect(rest({ title: "Promoted", text: "Promoted. Clear: 3 looks." })).toBe("Clear: 3 looks.");
    expect(rest({ title: "Promoted", text: "Promoted." })).toBe("");
    expect(rest({ title: "A long one…", text: "A long one, and more." })).toBe("A long one, and more.");
  });
});
