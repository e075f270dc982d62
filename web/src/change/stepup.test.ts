import { describe, expect, it } from "vitest";
import type { Schemas } from "../api/client";
import { doing, staysWith } from "./stepup";

const stepUp = (more: Partial<Schemas["StepUpView"]>) =>
  ({
    phase: "trying",
    bundles: ["Still water", "Slack tide"],
    level: 1,
    waits: "",
    stopping: false,
    ...more,
  }) as Schemas["StepUpView"];

describe("a step-up", () => {
  it("says what it is doing", () => {
    expect(doing(stepUp({}))).toBe("Slack tide is being tried.");
    expect(doing(stepUp({ phase: "searching" }))).toBe("Finding which setting of Slack tide breaks it.");
    expect(doing(stepUp({ waits: "Run 4 is under way." }))).toBe("It waits. Run 4 is under way.");
    expect(doing(stepUp({ level: -1, phase: "" }))).toBe("It starts in a moment.");
    expect(doing(stepUp({ phase: "over", summary: "3 edits passed." }))).toBe("3 edits passed.");
    expect(doing(stepUp({ stopping: true, waits: "Run 4 is under way." }))).toBe("Stopping.");
  });

  it("names what may stay with which exclusions", () => {
    const step = {
      titles: { defer: "Defer scripts" },
      excluded: [
        { key: "not", pattern: "/a.js", for: "defer" },
        { key: "not", pattern: "/b.js", for: "defer" },
      ],
    } as unknown as Schemas["StepUpStep"];
    expect(staysWith(step)).toEqual([{ title: "Defer scripts", patterns: ["/a.js", "/b.js"] }]);
  });
});
