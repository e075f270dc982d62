import { expect, it } from "vitest";
import type { Finding } from "./queries";
import { aboutCause, byCause } from "./findings";

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

it("groups findings by cause in the server's order, and says where each was seen and what comes of it", () => {
  const causes = byCause([
    finding(2, { cause: "lib", severity: "broken", kind: "missing-resource" }),
    finding(3, { cause: "lib", severity: "unsure", kind: "content", device: "desktop", symptom: true }),
    finding(4, { cause: "lib", severity: "broken", kind: "journey", page: "/kits", persona: "member", symptom: true }),
    finding(1, { cause: "quote", severity: "note" }),
    finding(5, { cause: "quote", severity: "unsure" }),
  ]);
  expect(causes.map((c) => [c.severity, c.kind, c.symptoms, c.findings.map((f) => f.id)])).toEqual([
    ["broken", "missing-resource", 2, [2, 3, 4]],
    ["unsure", "picture", 0, [1, 5]],
  ]);
  expect(causes[0]!.where).toBe("2 pages · phone and desktop · visitor, member");
  expect(causes[1]!.where).toBe("/ · phone");
  expect(aboutCause(causes[0]!)).toBe("missing file · 2 pages · phone and desktop · visitor, member · 2 symptoms");
  expect(aboutCause({ ...causes[1]!, control: "gone" })).toBe(
    "looks different · / · phone · gone with the earlier settings",
  );
});

it("puts what is shown to somebody else before all else that is broken", () => {
  const causes = byCause([
    finding(1, { cause: "menu", severity: "broken", kind: "journey" }),
    finding(2, { cause: "leak", severity: "broken", kind: "cache-leak" }),
    finding(3, { cause: "old leak", severity: "note", kind: "cache-leak" }),
  ]);
  expect(causes.map((c) => c.findings[0]!.id)).toEqual([2, 1, 3]);
});
