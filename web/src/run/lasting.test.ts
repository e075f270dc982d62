import { expect, it } from "vitest";
import { lasting, lastsFor } from "./lasting";

it("says roughly how long", () => {
  expect(lasting(3)).toBe("about 5 seconds");
  expect(lasting(72)).toBe("about 70 seconds");
  expect(lasting(200)).toBe("about 3 minutes");
});

it("estimates the rest from earlier runs, and says when there is none or it takes longer", () => {
  expect(lastsFor(65.4)).toBe("1:05 so far; no earlier run of this kind to estimate the rest from");
  expect(lastsFor(30, { seconds: 150, of: 5 })).toBe("0:30 so far, about 2 minutes left by the last 5 such runs");
  expect(lastsFor(170, { seconds: 150, of: 1 })).toBe("2:50 so far, longer than the last such run (2:30)");
});
