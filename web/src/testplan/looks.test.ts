import { describe, expect, it } from "vitest";
import {
  draftOf,
  publishingFor,
  pageDraftOf,
  pagesFor,
  unfinished,
  unfinishedPage,
  withDraft,
  withPage,
  without,
  type Looks,
} from "./looks";

const looks: Looks = {
  personas: [
    {
      name: "wren",
      kind: "member",
      prepare: [{ go: "/account" }],
      signOut: [{ click: { css: "#out" } }],
      privateTexts: ["FH-1"],
    },
    { name: "ida", kind: "editor", prepare: [{ go: "/desk" }] },
  ],
  journeys: [{ name: "in", persona: "wren", devices: ["phone"], where: ["staging"], steps: [{ go: "/" }] }],
  publishing: [
    {
      name: "lead",
      persona: "ida",
      steps: [{ go: "/e" }, { fill: { in: { label: "Lead" }, value: "{canary}" } }],
      undo: [{ go: "/e" }],
      shows: [{ page: "/a", within: 5 }, { page: "/" }],
    },
  ],
};

describe("a persona, a journey, an edit in a form", () => {
  it("comes back as it was", () => {
    for (const kind of ["personas", "journeys", "publishing"] as const) {
      const d = draftOf(kind, 0, looks);
      expect(unfinished(d)).toBe("");
      expect(withDraft(looks, d, "staging")).toEqual(looks);
    }
  });

  it("is added at the end when it is new, and published by an editor where there is one", () => {
    const d = draftOf("publishing", -1, looks);
    expect(d.persona).toBe("ida");
    expect(unfinished(d)).toBe("Give it a name.");
    d.name = " more ";
    expect(unfinished(d)).toContain("{canary}");
    d.lines.push({ verb: "fill", target: { label: "Lead" }, value: "by {canary}" });
    expect(unfinished(d)).toBe("Say which page has to show it.");
    d.shows.push({ page: "", within: "" });
    expect(unfinished(d)).toContain("Choose the page");
    d.shows[0] = { page: "/a", within: "soon" };
    expect(unfinished(d)).toContain("whole number");
    d.shows[0].within = "";
    expect(unfinished(d)).toBe("");
    const now = withDraft(looks, d, "staging");
    expect(now.publishing).toHaveLength(2);
    expect(now.publishing[1]).toMatchObject({ name: "more", shows: [{ page: "/a" }] });
    expect(looks.publishing).toHaveLength(1);
  });

  it("takes its name along to what names it", () => {
    const now = withDraft(looks, { ...draftOf("personas", 0, looks), name: "tom" }, "staging");
    expect(now.journeys[0]!.persona).toBe("tom");
    expect(now.publishing[0]!.persona).toBe("ida");
  });

  it("runs everywhere unless it is said to stay on staging", () => {
    const d = { ...draftOf("journeys", 0, looks), stagingOnly: false };
    expect(withDraft(looks, d, "staging").journeys[0]!.where).toBeUndefined();
    expect(unfinished({ ...d, devices: [] })).toBe("Say on which devices.");
    expect(unfinished({ ...d, lines: [] })).toBe("It needs a step.");
  });

  it("is left out alone", () => {
    const now = without(looks, "personas", 0);
    expect(now.personas.map((p) => p.name)).toEqual(["ida"]);
    expect(now.journeys).toEqual(looks.journeys);
  });
});

describe("a page in a form", () => {
  const pages = [
    { path: "/", class: "home" as const, personas: ["visitor", "wren"], devices: ["desktop" as const] },
    { path: "/a", class: "article" as const, personas: ["ida"], devices: ["phone" as const], formLives: 60 },
  ];

  it("comes back as it was", () => {
    for (const p of pages) expect(withPage(pages, pageDraftOf(p))).toEqual(pages);
  });

  it("says what it lacks", () => {
    const d = pageDraftOf();
    expect(unfinishedPage(d, pages)).toBe("This page is in the test plan already.");
    expect(unfinishedPage({ ...d, path: "b" }, pages)).toBe("A path begins with /.");
    expect(unfinishedPage({ ...d, path: "/b", personas: [] }, pages)).toBe("Choose at least one persona.");
    expect(unfinishedPage({ ...d, path: "/b", devices: [] }, pages)).toBe("Say on which devices.");
    expect(unfinishedPage({ ...d, path: "/b", formLives: "0" }, pages)).toBe("Seconds are a whole number.");
    expect(unfinishedPage({ ...d, path: "/b", masks: [{ selector: " ", reason: "" }] }, pages)).toContain("selector");
    expect(unfinishedPage({ ...d, path: "/b" }, pages)).toBe("");
    expect(unfinishedPage(pageDraftOf(pages[0]), pages)).toBe("");
  });

  it("follows a persona that is renamed or left out", () => {
    const renamed = looks.personas.map((p) => (p.name === "wren" ? { ...p, name: "tom" } : p));
    expect(pagesFor(pages, looks.personas, renamed)[0]!.personas).toEqual(["visitor", "tom"]);
    const left = looks.personas.filter((p) => p.name !== "ida");
    expect(pagesFor(pages, looks.personas, left)[1]!.personas).toEqual(["visitor"]);
  });

  it("takes what has to show on it along", () => {
    expect(publishingFor(looks.publishing, "/a", "/b")[0]!.shows).toEqual([{ page: "/b", within: 5 }, { page: "/" }]);
  });
});
