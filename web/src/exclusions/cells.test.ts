import { describe, expect, it } from "vitest";
import type { Cell } from "./queries";
import { grid, matrixInWords, signOf } from "./cells";

const cell = (c: Partial<Cell>): Cell => ({
  class: "home",
  persona: "visitor",
  device: "desktop",
  policy: "all",
  says: "all",
  seen: "unknown",
  trouble: "",
  text: "",
  pages: [],
  count: 1,
  nobody: false,
  ...c,
});

describe("the matrix of who is served from the cache pages", () => {
  it("is quiet where all agree and loud where they do not", () => {
    expect(signOf(cell({}))).toMatchObject({ sign: "flooded", loud: false });
    expect(signOf(cell({ policy: "never" }))).toMatchObject({ sign: "dry", loud: false });
    expect(signOf(cell({ policy: "own" })).sign).toBe("pool");
    expect(signOf(cell({ policy: "never", trouble: "leaks" }))).toEqual({
      sign: "breach",
      loud: true,
    });
    expect(signOf(cell({ trouble: "open" })).loud).toBe(true);
    expect(signOf(cell({ trouble: "wasted" })).loud).toBe(false);
  });

  it("keeps classes and people in their order, devices together", () => {
    const g = grid([
      cell({ class: "cart", persona: "member" }),
      cell({ class: "cart", persona: "member", device: "phone" }),
      cell({ class: "home" }),
    ]);
    expect(g.classes).toEqual(["cart", "home"]);
    expect(g.people).toEqual(["member", "visitor"]);
    expect([...grid([cell({ persona: "editor", nobody: true }), cell({})]).nobody]).toEqual(["editor"]);
    expect(g.cellsOf("cart", "member").map((c) => c.device)).toEqual(["desktop", "phone"]);
    expect(g.cellsOf("home", "member")).toEqual([]);
  });

  it("says in a sentence what it comes to, each class once", () => {
    expect(matrixInWords([cell({})])).toContain("Nobody");
    const said = matrixInWords([
      cell({ class: "cart", trouble: "leaks" }),
      cell({ class: "cart", trouble: "open", device: "phone" }),
      cell({ class: "account", trouble: "open" }),
    ]);
    expect(said).toBe(
      "Pages that must never be cached were served from the cache: cart. The settings let pages be cached that must never be: account.",
    );
  });
});
