import { describe, expect, it } from "vitest";
import { matching } from "./filter";

const all = [
  { title: "lib is not defined", page: "/cart", kind: "script-error", severity: "broken", state: "open" },
  { title: "Looks different", page: "/", kind: "picture", severity: "unsure", state: "accepted" },
  { title: "Looks different", page: "/Cart/two", kind: "picture", severity: "broken", state: "open" },
] as const;
const none = { q: "", kind: "", severity: "", state: "" };
const pages = (w: Partial<typeof none>) => matching([...all], { ...none, ...w }).map((f) => f.page);

describe("which findings are listed", () => {
  it("leaves nothing out when nothing is asked", () => expect(pages({})).toEqual(["/cart", "/", "/Cart/two"]));
  it("finds a part of the title or page in any case", () => {
    expect(pages({ q: " CART " })).toEqual(["/cart", "/Cart/two"]);
    expect(pages({ q: "not defined" })).toEqual(["/cart"]);
  });
  it("counts what is asked together", () => {
    expect(pages({ kind: "picture", severity: "broken" })).toEqual(["/Cart/two"]);
    expect(pages({ kind: "picture", severity: "note" })).toEqual([]);
  });
  it("counts what is not accepted as open", () => {
    expect(pages({ state: "accepted" })).toEqual(["/"]);
    expect(pages({ state: "open" })).toEqual(["/cart", "/Cart/two"]);
  });
});
