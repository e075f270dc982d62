import { describe, expect, it } from "vitest";
import type { Environment } from "./queries";
import type { Calendar } from "../calendar/queries";
import { columnAt, frozen, lettered, soundings, timeTicks, type Sounding } from "./rulers";

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

describe("the axis of the rulers", () => {
  const at = (minute: number) => new Date(Date.UTC(2026, 2, 1, 10, minute)).toISOString();
  it("leaves a quiet environment its own things beside a busy one", () => {
    const busy = Array.from({ length: 30 }, (_, i) => run(i + 10, "check", at(20 + i)));
    const quiet = [run(1, "mark", at(1)), run(2, "promote", at(2))];
    const drawn = soundings([environment(busy), environment(quiet)]);
    expect(drawn.map((s) => s.run).filter((r) => r! < 10)).toEqual([1, 2]);
    expect(drawn).toHaveLength(14);
    expect(drawn.at(-1)!.run).toBe(39);
  });
  it("is true to time when it is told to", () => {
    const runs = [run(1, "mark", at(0)), run(2, "check", at(10)), run(3, "check", at(40))];
    const drawn = soundings([environment(runs)], Date.parse(at(40)));
    expect(drawn.map((s) => s.column)).toEqual([0, 0.5, 2]);
  });
  it("letters the latest where two have no room beside each other", () => {
    const p = (key: string, env: number, column: number) => ({ key, env, column }) as Sounding;
    expect([...lettered([p("a", 0, 0), p("b", 0, 0.5), p("c", 0, 3), p("d", 1, 2.9)], 50, 70)].sort()).toEqual([
      "b",
      "c",
      "d",
    ]);
  });
  it("has some to a dozen ticks, whatever it spans", () => {
    for (const hours of [0.5, 2, 30, 24 * 12, 24 * 400, 24 * 3650]) {
      const ticks = timeTicks(Date.parse(at(7)), Date.parse(at(7)) + hours * 3_600_000);
      expect(ticks.length).toBeLessThanOrEqual(12);
      if (hours > 2) expect(ticks.length).toBeGreaterThan(2);
      expect(new Set(ticks.slice(1).map((t, i) => t - ticks[i]!)).size).toBeLessThanOrEqual(1);
    }
    expect(timeTicks(5, 5)).toEqual([]);
  });
});

describe("freezes on the rulers", () => {
  const point = (column: number, at: number) => ({ column, at }) as Sounding;
  const points = [point(0, 100), point(1, 200), point(2, 1000)];
  it("begin and end between the things that they lie between", () => {
    expect([50, 100, 150, 200, 600, 1100, 1300, 9999].map((t) => columnAt(points, t, 1200))).toEqual([
      0, 0.5, 1, 1.5, 2, 2.75, 3, 3,
    ]);
    expect(columnAt([], 5, 10)).toBe(0);
  });
  it("are drawn as far as the present", () => {
    const at = (t: number) => new Date(t).toISOString();
    const entry = (id: number, kind: string) => ({ id, entry: { kind, title: `${kind} ${id}` } });
    const calendar = {
      entries: [entry(1, "freeze"), entry(2, "window"), entry(3, "freeze")],
      occurrences: [
        { entry: 1, begins: at(150), ends: at(5000) },
        { entry: 2, begins: at(150), ends: at(5000) },
        { entry: 3, begins: at(1300), ends: at(5000) },
      ],
    } as unknown as Calendar;
    expect(frozen(calendar, points, 1200).map((f) => [f.title, f.from, f.to])).toEqual([["freeze 1", 1, 3]]);
  });
});
