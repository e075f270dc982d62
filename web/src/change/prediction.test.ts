import { describe, expect, it } from "vitest";
import { byList, pagesOf, recordOf, type Prediction } from "./prediction";

const prediction = {
  places: [
    { page: "/", persona: "visitor", device: "desktop" },
    { page: "/", persona: "visitor", device: "phone" },
    { page: "/cart", persona: "visitor", device: "phone" },
  ],
  exclude: [
    { key: "defer.not", title: "Not deferred", pattern: "/a.js" },
    { key: "keep", title: "Kept", pattern: ".menu*" },
    { key: "defer.not", title: "Not deferred", pattern: "/b.js" },
  ],
} as Prediction;

describe("what is predicted", () => {
  it("names each page once", () => {
    expect(pagesOf(prediction)).toEqual(["/", "/cart"]);
  });

  it("puts what to exclude to the list that takes it", () => {
    expect(byList(prediction)).toEqual([
      { key: "defer.not", title: "Not deferred", patterns: ["/a.js", "/b.js"] },
      { key: "keep", title: "Kept", patterns: [".menu*"] },
    ]);
  });

  it("says what it has been worth, and nothing before it was held against a run", () => {
    expect(recordOf({ runs: 0, right: 0, wrong: 0, missed: 0 })).toBe("");
    expect(recordOf({ runs: 4, right: 5, wrong: 1, missed: 1 })).toBe(
      "In 4 runs here 5 of 6 such predictions came true; 1 cause was found that nothing had predicted.",
    );
  });
});
