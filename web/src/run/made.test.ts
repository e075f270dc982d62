import { expect, test } from "vitest";
import { longest, parts, total } from "./made";

const spent = { opening: 120, network: 300, clock: 40, waiting: 0, painting: 500, reading: 40 };

test("the parts of a look's time add up to the whole", () => {
  expect(total(spent)).toBe(1000);
  expect(parts(spent).reduce((n, p) => n + p.share, 0)).toBeCloseTo(1);
  expect(longest(spent)).toBe("painting");
});

test("a look from before its time was noted has none", () => {
  const none = { opening: 0, network: 0, clock: 0, waiting: 0, painting: 0, reading: 0 };
  expect(total(none)).toBe(0);
  expect(parts(none).every((p) => p.share === 0)).toBe(true);
});
