import { describe, expect, it } from "vitest";
import { named, titleOf, unnamed } from "./naming";

const catalogue = {
  settings: [
    { key: "scripts.defer", title: "Defer scripts", type: "switch" as const },
    { key: "pages.never", title: "Pages never cached", type: "patterns" as const },
    { key: "images.lazy", title: "Lazy images", type: "switch" as const },
    { key: "pages.lifetime", title: "Lifetime of cached pages", type: "seconds" as const },
  ],
};
const of = (title: string, edits: Record<string, unknown>) => ({ title, edits, catalogue });

describe("the title of a change", () => {
  it("says what its edits do while nobody gave it one", () => {
    const once = named(of(unnamed, {}), { "images.lazy": true });
    expect(once).toBe("Lazy images: on");
    const twice = named(of(once, { "images.lazy": true }), { "images.lazy": true, "scripts.defer": true });
    expect(twice).toBe("Defer scripts: on, and 1 more");
    expect(named(of(twice, { "images.lazy": true, "scripts.defer": true }), {})).toBe(unnamed);
  });
  it("says a time with its unit", () =>
    expect(titleOf({ catalogue }, { "pages.lifetime": 5400 })).toBe("Lifetime of cached pages: 1.5 h"));
  it("stays what somebody wrote", () =>
    expect(named(of("Faster kits", { "images.lazy": true }), { "scripts.defer": true })).toBe("Faster kits"));
  it("is short, however long a value is", () => {
    const long = titleOf({ catalogue }, { "pages.never": Array.from({ length: 50 }, (_, i) => `/page-${i}`) });
    expect(long.length).toBeLessThanOrEqual(80);
  });
});
