import { describe, expect, it } from "vitest";
import { putTogether } from "./words";

const was = { title: "Defer", reason: "late", effect: "" };

describe("two people who describe a change at once", () => {
  it("keeps what only one of them changed", () => {
    const got = putTogether(was, { ...was, reason: "slow" }, { ...was, title: "Defer all" });
    expect(got).toEqual({ words: { title: "Defer all", reason: "slow", effect: "" }, met: [] });
  });
  it("asks about what both changed", () => {
    const got = putTogether(was, { ...was, title: "Theirs" }, { ...was, title: "Mine" });
    expect(got.words.title).toBe("Mine");
    expect(got.met).toEqual([{ what: "the title", theirs: "Theirs" }]);
  });
  it("asks nothing when both wrote the same", () => {
    expect(putTogether(was, { ...was, title: "Same" }, { ...was, title: "Same" }).met).toEqual([]);
  });
});
