import { describe, expect, it } from "vitest";
import type { Watch } from "./watchQueries";
import { after, place, purposes, sentence } from "./watches";

const look = (state: Watch["looks"][number]["state"], at = "2026-11-25T13:00:00Z"): Watch["looks"][number] => ({
  at,
  for: [{ reason: "first expiry", why: "Pages live for an hour.", pages: ["/", "/a", "/b", "/c", "/d"] }],
  state,
  why: "",
  held: [],
});
const watch = (...looks: Watch["looks"]): Watch => ({
  id: 1,
  change: 2,
  changeTitle: "Defer",
  environment: "production",
  promotion: 3,
  state: "watching",
  why: "",
  begun: "2026-11-25T12:00:00Z",
  ends: "2026-11-26T12:00:00Z",
  looks,
  kept: 4,
});

describe("the watch of a promotion", () => {
  it("says how far it is, and never that it is clear", () => {
    expect(sentence(watch(look("planned")))).toBe("Looks: none made yet; 1 to come.");
    expect(sentence(watch(look("clear"), look("news"), look("planned")))).toBe(
      "Looks: 2 made, nothing found that is the change’s; 1 to come.",
    );
    expect(sentence(watch(look("found"), look("clear"), look("under way")))).toBe(
      "Looks: 1 of 2 found something; 1 to come.",
    );
    expect(sentence({ ...watch(), state: "waits for a person", why: "1 look could not be made." })).toBe(
      "Not settled: 1 look could not be made.",
    );
  });
  it("says what a look is for", () => {
    expect(purposes(look("planned"))).toEqual([
      { title: "The shortest cache time is over", why: "Pages live for an hour.", pages: "/, /a, /b, 2 more" },
    ]);
  });
  it("tells times after the promotion", () => {
    const at = (s: number) => new Date(Date.parse("2026-11-25T12:00:00Z") + s * 1000).toISOString();
    expect([20, 600, 7200, 90_000, 259_200].map((s) => after("2026-11-25T12:00:00Z", at(s)))).toEqual([
      "under a minute",
      "10 min",
      "2 h",
      "1 d",
      "3 d",
    ]);
  });
  it("keeps moments in order on its line", () => {
    const w = watch();
    const at = (h: number) => place(w, new Date(Date.parse(w.begun) + h * 3_600_000).toISOString());
    expect(at(0)).toBe(0);
    expect(at(24)).toBe(1);
    expect(at(30)).toBe(1);
    expect(at(1)).toBeGreaterThan(0.3);
    expect(at(1)).toBeLessThan(at(4));
  });
});
