import { describe, expect, it } from "vitest";
import { phasesOf } from "./phases";
import type { Run } from "./queries";

const said = (kind: Run["kind"], phase: string, done = 0) =>
  phasesOf({ kind, phase, progress: { looks: { done, planned: 4, failed: 0 } } } as Run)
    .map((p) => (p.when === "here" ? `[${p.name}]` : p.when === "past" ? `${p.name}.` : p.name))
    .join(" ");

describe("the phases of a run", () => {
  it("tell what is over, what is under way and what is to come", () => {
    expect(said("try", "")).toBe("reading applying purging warming looking probing");
    expect(said("try", "warming")).toBe("reading. applying. purging. [warming] looking probing");
    expect(said("mark", "looking", 2)).toBe("reading. purging. warming. [looking] probing");
  });
  it("have one in its place that not every run comes to", () => {
    expect(said("try", "returning")).toBe("reading. [returning visitor] applying purging warming looking probing");
    expect(said("try", "returning", 4)).toBe(
      "reading. applying. purging. warming. looking. [returning visitor] probing",
    );
    expect(said("promote", "control")).toBe("reading. [control] applying purging warming looking probing");
    expect(said("try", "control", 4)).toBe("reading. applying. purging. warming. looking. probing. [control]");
    expect(said("mark", "comparing", 4)).toBe("reading. purging. warming. looking. probing. [comparing]");
    expect(said("try", "by hand")).toBe("reading. [checklist] applying purging warming looking probing");
    expect(said("promote", "unknown")).toBe("reading. applying. [unknown] purging warming looking probing");
    expect(said("isolation test", "putting back")).toBe("reading. signing in. probing. [restoring]");
    expect(said("measure", "signing in")).toBe("reading. [signing in] measuring");
  });
});
