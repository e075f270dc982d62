import { expect, it } from "vitest";
import { amountOf } from "./amount";

it.each([
  ["5", 5],
  [" 0,1 ", 0.1],
  ["0.25", 0.25],
  ["0", 0],
  ["", undefined],
  ["  ", undefined],
  ["lots", undefined],
  ["5 ms", undefined],
  ["-1", undefined],
  ["1e999", undefined],
])("%j is an amount, or is none", (text, amount) => expect(amountOf(text)).toBe(amount));
