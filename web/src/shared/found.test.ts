import { describe, expect, it } from "vitest";
import { around, grouped, type Found } from "./found";

const found = (kind: Found["kind"], title: string): Found => ({ kind, title, detail: "", siteName: "S", at: "/" });

describe("what was found", () => {
  it("stands kind by kind, numbered through for the arrow keys", () => {
    const groups = grouped([found("finding", "c"), found("site", "a"), found("finding", "d"), found("change", "b")]);
    expect(groups.map((g) => g.title)).toEqual(["Sites", "Changes", "Findings"]);
    expect(groups.flatMap((g) => g.items.map((i) => [i.at, i.found.title]))).toEqual([
      [0, "a"],
      [1, "b"],
      [2, "c"],
      [3, "d"],
    ]);
  });
  it("shows where the text is, in any case", () => {
    expect(around("Defer Scripts", "scri")).toEqual(["Defer ", "Scri", "pts"]);
    expect(around("/cart", "x")).toEqual(["/cart", "", ""]);
  });
});
