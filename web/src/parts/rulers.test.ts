import { describe, expect, it } from "vitest";
import type { Environment } from "../api/queries";
import { soundings } from "./rulers";

type Run = Environment["runs"][number];
const run = (id: number, kind: string, at: string, more: Partial<Run> = {}) =>
  ({
    id,
    kind,
    state: "done",
    verdict: "clear",
    summary: `run ${id}`,
    target: "aa",
    createdAt: at,
    finishedAt: at,
    ...more,
  }) as Run;
const environment = (runs: Run[], more: Partial<Environment> = {}) =>
  ({ runs, marks: [], acts: [], ...more }) as unknown as Environment;

describe("what is drawn on the rulers", () => {
  it("lays all environments on one axis, oldest first, each thing in a column of its own", () => {
    const drawn = soundings([
      environment([run(3, "try", "2026-03-01T12:00:00Z"), run(1, "mark", "2026-03-01T10:00:00Z")]),
      environment([run(2, "mark", "2026-03-01T11:00:00Z")]),
    ]);
    expect(drawn.map((s) => [s.run, s.env, s.column])).toEqual([
      [1, 0, 0],
      [2, 1, 1],
      [3, 0, 2],
    ]);
  });

  it("leads a rollback back to the mark whose settings it put in force", () => {
    const marks = [
      { id: 1, run: 1, fingerprint: "aa", looks: { planned: 3, done: 3, failed: 1 } },
    ] as Environment["marks"];
    const drawn = soundings([
      environment([run(1, "mark", "2026-03-01T10:00:00Z"), run(2, "roll back", "2026-03-01T11:00:00Z")], { marks }),
    ]);
    expect(drawn[1]!.back).toBe("r1");
    expect(drawn[0]!.number).toBe("2"); // looks that were made
  });

  it("shows what is under way, and what was changed outside, but not what waits", () => {
    const acts = [
      { id: 9, kind: "outside", at: "2026-03-01T09:00:00Z", note: "somebody" },
      { id: 10, kind: "try", at: "2026-03-01T09:30:00Z", note: "" },
    ] as Environment["acts"];
    const drawn = soundings([
      environment(
        [
          run(1, "try", "2026-03-01T10:00:00Z", {
            state: "running",
            finishedAt: null,
            verdict: "" as Run["verdict"],
          }),
          run(2, "promote", "2026-03-01T10:00:00Z", { state: "waiting", finishedAt: null }),
        ],
        { acts },
      ),
    ]);
    expect(drawn.map((s) => s.kind)).toEqual(["outside", "running"]);
  });

  it("draws the latest only", () => {
    const many = Array.from({ length: 20 }, (_, i) => run(i + 1, "check", `2026-03-01T10:${10 + i}:00Z`));
    const drawn = soundings([environment(many)]);
    expect(drawn).toHaveLength(14);
    expect(drawn.at(-1)!.run).toBe(20);
    expect(drawn[0]!.column).toBe(0);
  });
});
