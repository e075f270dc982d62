import { describe, expect, it } from "vitest";
import { named, titleOf, unnamed } from "./naming";

const catalogue = {
  settings: [
    { key: "scripts.defer", title: "Defer scripts" },
    { key: "pages.never", title: "Pages never cached" },
    { key: "images.lazy", title: "Lazy images" },
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
  it("stays what somebody wrote", () =>
    expect(named(of("Faster kits", { "images.lazy": true }), { "scripts.defer": true })).toBe("Faster kits"));
  it("is short, however long a value is", () => {
    const long = titleOf({ catalogue }, { "pages.never": Array.from({ length: 50 }, (_, i) => `/page-${i}`) });
    expect(long.length).toBeLessThanOrEqual(80);
  });
});
