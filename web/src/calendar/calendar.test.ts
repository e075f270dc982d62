import { calendarDay } from "../shared/wording";
import { describe, expect, it } from "vitest";
import type { Calendar } from "./queries";
import { againOf, againSaid, daysOf, ruleOf, timesOf } from "./calendar";

const at = (d: number, h: number, m = 0) => new Date(2026, 10, d, h, m).toISOString();
const entry = (id: number, kind: "freeze" | "window", title: string) => ({
  id,
  version: 1,
  now: false,
  madeBy: "Vera",
  entry: { kind, title, begins: "2026-11-27T18:00", ends: "2026-11-28T06:00", zone: "UTC" },
});
const calendar: Calendar = {
  entries: [entry(1, "freeze", "Sale"), { ...entry(2, "window", "Nights"), site: 4, siteName: "Quillet" }],
  occurrences: [
    { entry: 1, begins: at(27, 18), ends: at(29, 0) },
    { entry: 2, begins: at(27, 12), ends: at(27, 21) },
  ],
  going: [
    { site: 4, siteName: "Quillet", change: 9, title: "Lazy", who: "Vera", at: at(28, 6), done: true },
    { site: 4, siteName: "Quillet", change: 8, title: "Defer", who: "Vera", at: at(28, 7), done: false },
  ],
  why: "",
  trouble: "",
};

describe("a calendar's days", () => {
  const days = daysOf(calendar, new Date(2026, 10, 27, 9), 3, new Date(2026, 10, 28, 12), true);
  it("have each what holds on them, from midnight to midnight", () => {
    expect(days.map((d) => d.stretches.map((s) => [s.title, s.from, s.to]))).toEqual([
      [
        ["Quillet: Nights", 0.5, 0.875],
        ["Sale", 0.75, 1],
      ],
      [["Sale", 0, 1]],
      [],
    ]);
  });
  it("show what went out, and where the present is", () => {
    expect(days.map((d) => d.going.map((g) => [g.title, g.at]))).toEqual([[], [["Lazy", 0.25]], []]);
    expect(days.map((d) => d.now)).toEqual([undefined, 0.5, undefined]);
  });
});

describe("how an entry recurs", () => {
  it("is the same rule after it was read and written", () => {
    for (const rule of [
      "",
      "FREQ=DAILY",
      "FREQ=WEEKLY;BYDAY=MO,TU",
      "FREQ=YEARLY;UNTIL=20301231T235959",
      "FREQ=MONTHLY;BYDAY=1FR",
      "FREQ=DAILY;COUNT=3",
    ])
      expect(ruleOf(againOf(rule))).toBe(rule);
  });
  it("is said in words as far as there are some", () => {
    expect(againSaid("")).toBe("once");
    expect(againSaid("FREQ=WEEKLY;BYDAY=MO,SA")).toBe("each Monday, Saturday");
    expect(againSaid("FREQ=YEARLY;UNTIL=20301231T235959")).toBe(`each year until ${calendarDay("2030-12-31")}`);
    expect(againSaid("FREQ=MONTHLY;BYDAY=1FR")).toBe("by FREQ=MONTHLY;BYDAY=1FR");
  });
});

it("says the first times of an entry as they were written", () => {
  expect(timesOf(calendar.entries[0]!.entry)).toBe(
    `${calendarDay("2026-11-27")}, 18:00 to ${calendarDay("2026-11-28")}, 06:00`,
  );
});
