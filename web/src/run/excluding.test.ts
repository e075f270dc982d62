import { describe, expect, it } from "vitest";
import { ticked, withOwn, type Candidate } from "./excluding";

const candidates: Candidate[] = [
  { key: "scripts.deferNot", pattern: "/assets/fern.js", title: "Scripts not deferred", why: "It throws.", weight: 3 },
  {
    key: "scripts.deferNot",
    pattern: "/assets/shop.js",
    title: "Scripts not deferred",
    why: "It is called.",
    weight: 2,
  },
  { key: "pages.never", pattern: "", title: "Pages never cached", why: "Write one yourself.", weight: 1 },
] as unknown as Candidate[];

describe("what is excluded together", () => {
  it("is what is ticked, as it stands in the evidence", () => {
    expect(ticked(candidates, [true, true])).toEqual([
      { key: "scripts.deferNot", pattern: "/assets/fern.js" },
      { key: "scripts.deferNot", pattern: "/assets/shop.js" },
    ]);
  });
  it("leaves out what has no pattern", () => expect(ticked(candidates, [false, false, true])).toEqual([]));
  it("has what somebody wrote once, without the spaces around it", () => {
    const all = ticked(candidates, [true]);
    expect(withOwn(all, { key: "scripts.deferNot", pattern: " /assets/fern.js " })).toEqual(all);
    expect(withOwn(all, { key: "pages.never", pattern: " /cart " })).toEqual([
      ...all,
      { key: "pages.never", pattern: "/cart" },
    ]);
    expect(withOwn([], { key: "pages.never", pattern: "  " })).toEqual([]);
  });
});
