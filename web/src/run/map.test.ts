import { describe, expect, it } from "vitest";
import { largest, summed, verdictMap } from "./map";
import type { Finding } from "./queries";

const look = (page: string, persona: string, device: string, journey?: string) => ({
  kind: journey ? ("journey" as const) : ("page" as const),
  page,
  persona,
  device,
  journey,
  pass: 1,
});
const finding = (of: Partial<Finding>) =>
  ({
    id: 1,
    kind: "picture",
    severity: "broken",
    state: "open",
    page: "/",
    persona: "visitor",
    device: "phone",
    title: "",
    cause: "c",
    fingerprint: "",
    ...of,
  }) as Finding;

describe("the map of a verdict", () => {
  const looks = [
    look("/", "visitor", "phone"),
    look("/", "visitor", "desktop"),
    look("/account", "member", "desktop"),
    look("", "visitor", "desktop", "buying"),
  ];
  it("has pages and then journeys down, each persona's devices across", () => {
    const map = verdictMap(looks, []);
    expect(map.columns).toEqual([
      { persona: "visitor", device: "phone" },
      { persona: "visitor", device: "desktop" },
      { persona: "member", device: "desktop" },
    ]);
    expect(map.rows.map((r) => r.name)).toEqual(["/", "/account", "buying"]);
  });
  it("does not call clear what nobody looked at", () => {
    const map = verdictMap(looks, []);
    expect(map.rows[0]!.cells.map((c) => c.state)).toEqual(["clear", "clear", "not seen"]);
    expect(summed(map)).toBe("4 clear");
  });
  it("says the worst of a place, and keeps what was accepted apart from it", () => {
    const findings = [
      finding({ id: 1, severity: "unsure" }),
      finding({ id: 2, severity: "broken" }),
      finding({ id: 3, device: "desktop", state: "accepted" }),
      finding({ id: 4, kind: "not-checked", severity: "unsure", page: "/slow" }),
      finding({ id: 5, severity: "note", page: "/account", persona: "member", device: "desktop" }),
      finding({ id: 6, kind: "journey", page: "", journey: "buying", device: "desktop" }),
    ];
    const map = verdictMap(looks, findings);
    const at = (row: string) => map.rows.find((r) => r.name === row)!.cells.map((c) => c.state);
    expect(at("/")).toEqual(["broken", "accepted", "not seen"]);
    expect(map.rows[0]!.cells[0]!.findings[0]!.id).toBe(2);
    expect(at("/slow")).toEqual(["not checked", "not seen", "not seen"]);
    expect(at("/account")).toEqual(["not seen", "not seen", "note"]);
    expect(at("buying")).toEqual(["not seen", "broken", "not seen"]);
  });
});

describe("what changed most", () => {
  it("is one finding of each cause, by how much of the picture differs", () => {
    const region = (changed: number) => ({ x: 0, y: 0, width: 1, height: 1, changed });
    const list = [
      finding({ id: 1, cause: "a", region: region(10) }),
      finding({ id: 2, cause: "b", region: region(900) }),
      finding({ id: 3, cause: "a", region: region(50) }),
      finding({ id: 4, cause: "c", kind: "journey" }),
    ];
    expect(largest(list, 5).map((f) => f.id)).toEqual([2, 3]);
    expect(largest(list, 1).map((f) => f.id)).toEqual([2]);
  });
});
