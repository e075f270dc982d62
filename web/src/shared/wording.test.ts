import { describe, expect, it } from "vitest";
import { bytes, counted, day, inWords, moment, span } from "./wording";

const now = new Date("2026-11-28T12:00:00");

describe("times", () => {
  it("have their year when it is not this one", () => {
    expect(moment("2026-11-27T09:05:00", now)).not.toContain("2026");
    expect(moment("2025-11-27T09:05:00", now)).toContain("2025");
    expect(day("2024-02-29T09:05:00", now)).toContain("2024");
    expect(day(now, now)).not.toContain("2026");
  });
  it("say day, month and minute", () => {
    expect(moment("2026-11-27T09:05:00", now)).toMatch(/27/);
    expect(moment("2026-11-27T09:05:00", now)).toMatch(/05/);
  });
});

describe("sizes and spans", () => {
  it("are in the unit that a person would use", () => {
    expect([900, 1500, 2_340_000].map(bytes)).toEqual(["900 B", "1.5 kB", "2.3 MB"]);
    expect([45, 90, 5400, 36_000, 86_400, 129_600].map(span)).toEqual([
      "45 s",
      "1.5 min",
      "1.5 h",
      "10 h",
      "1 d",
      "1.5 d",
    ]);
  });
});

describe("values of settings", () => {
  it("are said as people say them", () => {
    expect([true, false, 7200, ["/cart", "/pay"], [], "gzip", undefined].map(inWords)).toEqual([
      "on",
      "off",
      "7200",
      "/cart, /pay",
      "none",
      "gzip",
      "none",
    ]);
  });
});

describe("numbers of things", () => {
  it("have one or many of them", () => {
    expect(counted(1, "look")).toBe("1 look");
    expect(counted(0, "look")).toBe("0 looks");
    expect(counted(1, "address", "addresses")).toBe("1 address");
    expect(counted(2500, "address", "addresses")).toMatch(/^2.?500 addresses$/);
  });
});
