import { describe, expect, it } from "vitest";
import type { Finding } from "./queries";
import { canMask, lasts, nextOpen, ofCause, ofPart, selectorOf } from "./decisions";

const finding = (id: number, more: Partial<Finding> = {}): Finding =>
  ({
    id,
    kind: "picture",
    severity: "broken",
    page: "/",
    persona: "visitor",
    device: "desktop",
    title: "button#pay is missing",
    cause: "picture: #pay",
    part: "picture: #pay",
    fingerprint: String(id),
    state: "open",
    ...more,
  }) as Finding;

describe("what a decision reaches", () => {
  const list = [
    finding(1),
    finding(2, { page: "/kits" }),
    finding(3, { page: "/kits", title: "button#pay is cut off" }),
    finding(4, { kind: "content", part: "content: Pay", cause: "picture: #pay" }),
    finding(5, { severity: "note" }),
  ];
  it("is the very same difference elsewhere, not another one of the same part", () => {
    expect(ofPart(list[0]!, list).map((f) => f.id)).toEqual([1, 2]);
  });
  it("is all of the cause that counts", () => {
    expect(ofCause(list[0]!, list).map((f) => f.id)).toEqual([1, 2, 3, 4]);
  });
  it("never lasts for what others are shown", () => {
    expect(lasts(finding(1, { kind: "cache-leak" }))).toBe(false);
    expect(lasts(list[0]!)).toBe(true);
  });
});

describe("a mask", () => {
  it("starts from the element that the picture shows otherwise", () => {
    expect(selectorOf(finding(1))).toBe("#pay");
    expect(selectorOf(finding(1, { kind: "content", part: "content: Pay" }))).toBe("");
  });
  it("is for how a part looks and reads", () => {
    expect(canMask(finding(1, { kind: "journey" }))).toBe(false);
    expect(canMask(finding(1, { severity: "note" }))).toBe(false);
    expect(canMask(finding(1))).toBe(true);
  });
});

describe("the next one that waits", () => {
  const list = [finding(1), finding(2, { state: "accepted" }), finding(3), finding(4, { severity: "note" })];
  it("leaves out what is decided, and goes round", () => {
    expect(nextOpen(list, 1)?.id).toBe(3);
    expect(nextOpen(list, 3)?.id).toBe(1);
  });
  it("is none when all is decided", () => {
    expect(nextOpen([finding(1, { state: "accepted" })], 1)).toBeUndefined();
  });
});
