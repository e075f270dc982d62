import { describe, expect, it } from "vitest";
import type { Schemas } from "../api/client";
import { knownOf, tryTitle } from "./search";

const edits = (...states: Schemas["SearchedEdit"]["state"][]) =>
  ({ edits: states.map((state) => ({ key: "k", text: state, state, needs: [] })) }) as unknown as Schemas["SearchView"];

describe("a search for the culprit", () => {
  it("says what is known of the edits", () => {
    expect(knownOf(edits("suspected", "suspected", "unknown"))).toBe("2 of 3 edits suspected.");
    expect(knownOf(edits("culprit", "suspected", "innocent", "innocent"))).toBe(
      "1 found, 1 of 4 edits suspected, 2 break nothing.",
    );
  });

  it("says what a try came to, and from where it is known", () => {
    expect(tryTitle({ edits: [0], outcome: "fails", shown: 1, rounds: 1, seconds: 4 })).toBe("shows, in 1 of 1 look");
    expect(tryTitle({ edits: [0], outcome: "passes", shown: 0, rounds: 0, seconds: 0, fromRun: 12 })).toBe(
      "does not show, known from run 12",
    );
    expect(tryTitle({ edits: [0], outcome: "undecided", shown: 0, rounds: 0, seconds: 0, why: "It hangs." })).toBe(
      "not decided. It hangs.",
    );
  });
});
