import { expect, it } from "vitest";
import type { Finding } from "../api/queries";
import { byCause } from "./findings";

const finding = (id: number, more: Partial<Finding>) =>
  ({
    id,
    kind: "picture",
    severity: "unsure",
    cause: "c",
    title: "t",
    page: "/",
    persona: "visitor",
    device: "phone",
    ...more,
  }) as Finding;

it("groups findings by cause, the worst first, and says where each was seen", () => {
  const causes = byCause([
    finding(1, { cause: "quote" }),
    finding(2, { cause: "lib", severity: "broken", kind: "script-error" }),
    finding(3, { cause: "lib", severity: "broken", kind: "script-error", device: "desktop" }),
    finding(4, { cause: "lib", severity: "broken", kind: "script-error", page: "/kits", persona: "member" }),
    finding(5, { cause: "quote", severity: "note" }),
  ]);
  expect(causes.map((c) => [c.severity, c.findings.map((f) => f.id)])).toEqual([
    ["broken", [2, 3, 4]],
    ["unsure", [1]],
    ["note", [5]],
  ]);
  expect(causes[0]!.where).toBe("2 pages · phone and desktop · visitor, member");
  expect(causes[1]!.where).toBe("/ · phone");
});

it("puts what is shown to somebody else before all else that is broken", () => {
  const causes = byCause([
    finding(1, { cause: "menu", severity: "broken", kind: "journey" }),
    finding(2, { cause: "leak", severity: "broken", kind: "cache-leak" }),
    finding(3, { cause: "old leak", severity: "note", kind: "cache-leak" }),
  ]);
  expect(causes.map((c) => c.findings[0]!.id)).toEqual([2, 1, 3]);
});
