import { describe, expect, it } from "vitest";
import { budgetOf, limitOf } from "./budgets";

const wish = { metric: "transferred" as const, class: "", device: "" as const, against: "most", amount: "150" };

describe("budgets", () => {
  it("are in the metric's unit, whatever a person writes them in", () => {
    expect(budgetOf(wish)).toEqual({ metric: "transferred", most: 150_000 });
    expect(budgetOf({ ...wish, metric: "layout-shift", amount: "0,1", class: "listing", device: "phone" })).toEqual({
      metric: "layout-shift",
      most: 0.1,
      class: "listing",
      device: "phone",
    });
    expect(budgetOf({ ...wish, against: "over", amount: "10" })).toEqual({ metric: "transferred", over: 0.1 });
  });

  it("are not made of what is no amount", () => {
    for (const amount of ["", " ", "much", "-1"]) expect(budgetOf({ ...wish, amount })).toBeUndefined();
    expect(budgetOf({ ...wish, against: "over", amount: "5000" })).toBeUndefined();
  });

  it("are told in words", () => {
    expect(limitOf({ metric: "transferred", most: 150_000 })).toBe("150.0 kB");
    expect(limitOf({ metric: "largest-contentful-paint", most: 2500 })).toBe("2.5 s");
    expect(limitOf({ metric: "load", over: 0.1 })).toBe("10 % over the mark");
  });
});
