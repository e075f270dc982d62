import { describe, expect, it } from "vitest";
import type { Schemas } from "../api/client";
import { doing, staysWith } from "./climb";

const climb = (more: Partial<Schemas["ClimbView"]>) =>
  ({
    phase: "trying",
    bundles: ["Still water", "Slack tide"],
    level: 1,
    waits: "",
    stopping: false,
    ...more,
  }) as Schemas["ClimbView"];

describe("a climb", () => {
  it("says what it is doing", () => {
    expect(doing(climb({}))).toBe("Slack tide is being tried.");
    expect(doing(climb({ phase: "searching" }))).toBe("Finding which setting of Slack tide breaks it.");
    expect(doing(climb({ waits: "Run 4 is under way." }))).toBe("It waits. Run 4 is under way.");
    expect(doing(climb({ level: -1, phase: "" }))).toBe("It starts in a moment.");
    expect(doing(climb({ phase: "over", summary: "3 edits passed." }))).toBe("3 edits passed.");
    expect(doing(climb({ stopping: true, waits: "Run 4 is under way." }))).toBe("Stopping.");
  });

  it("names what may stay with which exclusions", () => {
    const step = {
      titles: { defer: "Defer scripts" },
      excluded: [
        { key: "not", pattern: "/a.js", for: "defer" },
        { key: "not", pattern: "/b.js", for: "defer" },
      ],
    } as unknown as Schemas["ClimbStep"];
    expect(staysWith(step)).toEqual([{ title: "Defer scripts", patterns: ["/a.js", "/b.js"] }]);
  });
});
