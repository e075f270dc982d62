import { describe, expect, it } from "vitest";
import { lacking, linesOf, stepOf, verbList, wayOf, type Line } from "./steps";

const target = { role: "button", name: "Send" };

describe("steps of a journey in the editor", () => {
  it("come back as they were", () => {
    for (const step of [
      { go: "/cart" },
      { click: target },
      { hover: { css: "nav" } },
      { scrollTo: { text: "Imprint" } },
      { press: "Enter" },
      { fill: { in: { label: "Name" }, value: "Ada" } },
      { fill: { in: { label: "Password" }, value: "", secret: true } },
      { choose: { in: { label: "Size" }, value: "Large" } },
      { wait: { milliseconds: 500 } },
      { expect: { visible: target } },
      { expect: { hidden: target } },
      { expect: { text: { in: { css: "main" }, contains: "Thank you" } } },
      { expect: { noText: { in: { css: "main" }, contains: "Sorry" } } },
      { expect: { count: { of: { css: ".line" }, is: 0 } } },
      { expect: { url: "/cart*" } },
      { expect: { status: 404 } },
      { expect: { request: "/api/cart" } },
    ]) {
      const lines = linesOf(step);
      expect(lines).toHaveLength(1);
      expect(lacking(lines[0]!)).toBe("");
      expect(stepOf(lines[0]!)).toEqual(step);
    }
  });

  it("become one line for each thing that is expected", () => {
    const lines = linesOf({ expect: { url: "/cart", status: 200, visible: target } });
    expect(lines.map((l) => l.verb)).toEqual(["url", "status", "visible"]);
  });

  it("keep what else a target has", () => {
    const both = { click: { css: "form", role: "button", name: "Send" } };
    expect(stepOf(linesOf(both)[0]!)).toEqual(both);
  });

  it("say what is missing before they are kept", () => {
    const line = (l: Partial<Line>): Line => ({ verb: "go", target: {}, value: "", ...l });
    expect(lacking(line({}))).toBe("Say path.");
    expect(lacking(line({ value: "cart" }))).toContain("begins with /");
    expect(lacking(line({ verb: "click" }))).toContain("what on the page");
    expect(lacking(line({ verb: "count", target, value: "two" }))).toContain("whole number");
    expect(lacking(line({ verb: "fill", target, value: "" }))).toBe("");
  });

  it("know every way to name an element, and every verb once", () => {
    expect(wayOf({ label: "" })).toBe("label"); // chosen, and not filled in yet
    expect([{ css: "a" }, { label: "a" }, { text: "a" }, { role: "a" }, {}].map(wayOf)).toEqual([
      "css",
      "label",
      "text",
      "role",
      "role",
    ]);
    expect(new Set(verbList.map((v) => v.says)).size).toBe(verbList.length);
  });
});
