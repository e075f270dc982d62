import { describe, expect, it } from "vitest";
import { daysBetween, parts, scaleOf, snippet, stretches } from "./field";

describe("field data", () => {
  it("knows the days of a chart, over the end of a month", () => {
    expect(daysBetween("2026-11-29", "2026-12-02")).toEqual(["2026-11-29", "2026-11-30", "2026-12-01", "2026-12-02"]);
  });

  it("chooses a scale that shows the thresholds that are near", () => {
    expect(scaleOf([1800, 2300], [2500, 4000])).toEqual({ top: 3000, ticks: [0, 500, 1000, 1500, 2000, 2500, 3000] });
    expect(scaleOf([3100], [2500, 4000]).ticks).toEqual([0, 1000, 2000, 3000, 4000, 5000]);
    expect(scaleOf([0.02], [0.1, 0.25]).top).toBeCloseTo(0.025);
    expect(scaleOf([], [2500]).top).toBe(1);
  });

  it("draws no line across days of which nothing is known", () => {
    const d = (day: string) => ({ day });
    const list = [d("2026-11-01"), d("2026-11-02"), d("2026-11-05")];
    expect(stretches(list).map((s) => s.length)).toEqual([2, 1]);
    expect(stretches([])).toEqual([]);
  });

  it("parts a day's page views", () => {
    expect(parts({ good: 3, middling: 1, poor: 0 })).toEqual({ good: 0.75, middling: 0.25, poor: 0 });
    expect(parts({ good: 0, middling: 0, poor: 0 })).toEqual({ good: 0, middling: 0, poor: 0 });
  });

  it("says what a page has to have in it", () => {
    expect(snippet("https://tide.example/field/k.js")).toBe(
      '<script src="https://tide.example/field/k.js" defer></script>',
    );
  });
});
