import { expect, it } from "vitest";
import { stepped } from "./grid";

it("goes from cell to cell, and not over the edge", () => {
  expect(stepped("ArrowDown", false, [0, 0], 3, 2)).toEqual([1, 0]);
  expect(stepped("ArrowDown", false, [2, 0], 3, 2)).toEqual([2, 0]);
  expect(stepped("ArrowLeft", false, [1, 0], 3, 2)).toEqual([1, 0]);
  expect(stepped("ArrowRight", false, [1, 0], 3, 2)).toEqual([1, 1]);
  expect(stepped("End", false, [1, 0], 3, 2)).toEqual([1, 1]);
  expect(stepped("End", true, [0, 0], 3, 2)).toEqual([2, 1]);
  expect(stepped("Home", true, [2, 1], 3, 2)).toEqual([0, 0]);
  expect(stepped("a", false, [0, 0], 3, 2)).toBeUndefined();
});
