import { describe, expect, it } from "vitest";
import { inShort, soundings } from "./risk";

describe("what a change does to risk", () => {
  it("sounds the deepest first, and not what can break nothing", () => {
    expect(soundings([4, 1, 0, 2])).toEqual([3, 3, 1]);
    expect(soundings([9, 0, 0, 0])).toEqual([]);
  });
  it.each([
    [[1, 2, 0, 0], [1, 2, 0, 0], "As much can break as before."],
    [[0, 2, 0, 0], [0, 2, 0, 1], "Bolder: a setting is now in use that breaks some sites."],
    [[0, 2, 0, 1], [0, 2, 0, 0], "More cautious: the boldest setting left rarely breaks anything."],
    [[0, 2, 1, 0], [0, 2, 3, 0], "Bolder: 2 more that break a page now and then."],
    [[0, 2, 1, 2], [0, 9, 9, 1], "More cautious: 1 fewer that breaks some sites."],
    [[0, 1, 1, 1], [0, 1, 2, 1], "A little bolder."],
    [[0, 1, 2, 1], [0, 2, 1, 1], "Other settings, as bold as before."],
  ])("%j to %j", (before, after, says) => expect(inShort(before, after)).toBe(says));
});
