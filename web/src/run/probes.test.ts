import { describe, expect, it } from "vitest";
import type { Schemas } from "../api/client";
import { answers, asked, foreign, shown, shownLines } from "./probes";

type Probe = Schemas["Probe"];
const answer = (a: Partial<Schemas["Answer"]> = {}) => ({ status: 200, served: "origin", ...a }) as Schemas["Answer"];
const probe = (p: Partial<Probe>): Probe => ({
  page: "/account",
  class: "account",
  persona: "wren",
  device: "phone",
  kind: "stranger-after",
  first: answer(),
  second: answer(),
  fresh: answer(),
  ...p,
});
const kinds = [
  "stranger-twice",
  "stranger-after",
  "persona-after",
  "persona-twice",
  "after-sign-out",
  "device-after",
  "other-value",
  "without-parameter",
  "ignored-parameter",
  "as-cached",
  "published",
  "links",
] as const;

describe("probes in words", () => {
  it("says of each kind who asked, and never twice the same", () => {
    const said = kinds.map((kind) =>
      asked(probe({ kind, before: "tom", parameter: "kind", edit: "a new lead" } as Partial<Probe>)),
    );
    expect(new Set(said).size).toBe(kinds.length);
    expect(said.every((s) => !s.includes("undefined"))).toBe(true);
  });
  it("shows as many answers as were asked for", () => {
    expect(answers(probe({})).map((c) => c.name)).toEqual([
      "1. wren asks",
      "2. a visitor asks after it",
      "3. a visitor asks when nothing is cached",
    ]);
    const two = probe({ kind: "without-parameter", parameter: "q", fresh: answer({ status: 0 }) });
    expect(answers(two).map((c) => c.name)).toEqual(["1. the page as in the test plan", "2. without “q”"]);
  });
});

describe("a line that should not be there", () => {
  const lines = { first: answer({ lines: ["Wren Oakham", "Menu"] }), fresh: answer({ lines: ["Menu"] }) };
  it("came from the first answer and is in none that was generated fresh", () => {
    expect(foreign(probe(lines), "Wren Oakham")).toBe(true);
    expect(foreign(probe(lines), "Menu")).toBe(false);
    expect(foreign(probe(lines), "Nowhere")).toBe(false);
  });
  it("is any of the first page when another value was asked for", () => {
    expect(foreign(probe({ ...lines, kind: "other-value" }), "Menu")).toBe(true);
  });
  it("is none when somebody asks for their own page again", () => {
    expect(foreign(probe({ ...lines, kind: "persona-twice" }), "Wren Oakham")).toBe(false);
  });
});

describe("what was published", () => {
  const word = answer({ privateTexts: ["the word made up for a new lead"] });
  const published = (p: Partial<Probe>) => shown(probe({ kind: "published", fresh: word, ...p })).state;
  it("is clear when it shows, or may take longer", () => {
    expect(published({ second: word, waited: 0.2 })).toBe("clear");
    expect(shown(probe({ kind: "published", fresh: word, second: word, waited: 2.04 })).words).toBe(
      "shown within 2.0 s",
    );
    expect(shown(probe({ kind: "published", fresh: word, second: word, waited: 0.04 })).words).toBe("shown at once");
    expect(published({ allowed: 36000, waited: 0.1 })).toBe("clear");
    expect(published({ allowed: -1, waited: 0.1 })).toBe("clear");
  });
  it("is broken when its time is over", () => {
    expect(published({ waited: 3.1 })).toBe("broken");
    expect(published({ allowed: 2, waited: 5 })).toBe("broken");
  });
  it("is unsure when nobody could see it", () => {
    expect(published({ fresh: answer() })).toBe("unsure");
    expect(published({ missing: "no answer" })).toBe("unsure");
  });
});

describe("the lines of an answer", () => {
  const lines = Array.from({ length: 70 }, (_, i) => `line ${i + 1}`);
  it("never hides one that is in question", () => {
    const { shown, more } = shownLines(lines, false, (l) => l === "line 61");
    expect(shown).toHaveLength(61);
    expect(shown.at(-1)).toBe("line 61");
    expect(more).toBe(9);
  });
  it("are all shown when somebody asks for them", () => {
    expect(shownLines(lines, true, () => false)).toEqual({ shown: lines, more: 0 });
  });
});
