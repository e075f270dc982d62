import { describe, expect, it } from "vitest";
import { merge } from "./merge";

describe("edits of one change made by two people", () => {
  it("puts together what does not meet", () => {
    const m = merge({}, { lazy: true, skip: 4 }, { compact: true });
    expect(m).toEqual({ both: { lazy: true, skip: 4, compact: true }, asked: [] });
  });

  it("asks about what both set otherwise, and takes neither", () => {
    const m = merge({ life: 60 }, { life: 90 }, { life: 120 });
    expect(m.asked).toEqual([{ key: "life", theirs: 90, yours: 120 }]);
    expect(m.both).toEqual({ life: 90 });
  });

  it("asks about what one set and the other took back", () => {
    expect(merge({ a: 1 }, {}, { a: 2 }).asked).toEqual([{ key: "a", theirs: undefined, yours: 2 }]);
    expect(merge({ a: 1 }, { a: 2 }, {}).asked).toEqual([{ key: "a", theirs: 2, yours: undefined }]);
  });

  it("takes back what only you took back, and keeps what only they did", () => {
    expect(merge({ a: 1, b: 1 }, { a: 1, b: 1 }, { b: 1 })).toEqual({ both: { b: 1 }, asked: [] });
    expect(merge({ a: 1, b: 1 }, { b: 1 }, { a: 1, b: 1 })).toEqual({ both: { b: 1 }, asked: [] });
  });

  it("does not ask about what both made the same, lists included", () => {
    expect(merge({}, { not: ["/a", "/b"] }, { not: ["/a", "/b"] }).asked).toEqual([]);
    expect(merge({}, { not: ["/a"] }, { not: ["/b"] }).asked).toHaveLength(1);
  });
});
