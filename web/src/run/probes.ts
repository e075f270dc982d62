import type { Schemas } from "../api/client";

type Probe = Schemas["Probe"];

const who = (persona?: string) => (persona === "visitor" ? "a visitor" : persona);

/** Who asked for what, in the few words of a row. */
export function asked(p: Probe): string {
  switch (p.kind) {
    case "stranger-twice":
      return "a visitor, then another";
    case "stranger-after":
      return `a visitor, right after ${p.persona}`;
    case "persona-after":
      return `${p.persona}, right after ${who(p.before)}`;
    case "persona-twice":
      return `${p.persona}, twice`;
    case "after-sign-out":
      return `${p.persona}, signed out`;
    case "device-after":
      return `a ${p.device}, right after a ${p.before}`;
    case "other-value":
      return `another value of “${p.parameter}”`;
    case "without-parameter":
      return `without “${p.parameter}”`;
    case "ignored-parameter":
      return `with “${p.parameter}”, which is ignored`;
    case "as-cached":
      return "a visitor, before anything was purged";
    case "links":
      return "a visitor, following links";
    case "published":
      return `a visitor, after “${p.edit}”`;
  }
}

/** The answers of a probe in their order, each with who got it; those that were not asked for are left out. */
export function answers(p: Probe): { name: string; a: Schemas["Answer"] }[] {
  const names: [string, string, string] = (() => {
    switch (p.kind) {
      case "stranger-twice":
        return ["a visitor asks", "another visitor asks", "a visitor asks when nothing is cached"];
      case "stranger-after":
        return [`${p.persona} asks`, "a visitor asks after it", "a visitor asks when nothing is cached"];
      case "persona-after":
        return [`${who(p.before)} asks`, `${p.persona} asks after it`, `${p.persona} asks when nothing is cached`];
      case "persona-twice":
        return [`${p.persona} asks`, `${p.persona} asks again`, `${p.persona} asks when nothing is cached`];
      case "after-sign-out":
        return [
          `${p.persona} asks, signed in`,
          "the same browser asks, signed out",
          "the same browser asks when nothing is cached",
        ];
      case "device-after":
        return [`a ${p.before} asks`, `a ${p.device} asks after it`, `a ${p.device} asks when nothing is cached`];
      case "as-cached":
        return ["a visitor asks, as it is cached", "a visitor asks again", "a visitor asks when nothing is cached"];
      case "published":
        return [`before “${p.edit}”`, "after it", "after it, when nothing is cached"];
      case "without-parameter":
        return ["the page as in the test plan", `without “${p.parameter}”`, ""];
      default:
        return ["the page as in the test plan", `with another “${p.parameter}”`, ""];
    }
  })();
  return [p.first, p.second, p.fresh].flatMap((a, i) => (a.status ? [{ name: `${i + 1}. ${names[i]}`, a }] : []));
}

/** Tells whether a line of the second answer is the first one's and should not be there. */
export function foreign(p: Probe, line: string): boolean {
  const inFirst = (p.first.lines ?? []).includes(line);
  const inFresh = (p.fresh.lines ?? []).includes(line);
  switch (p.kind) {
    case "other-value":
    case "without-parameter":
      return inFirst;
    case "ignored-parameter":
    case "persona-twice":
      return false;
    default:
      return inFirst && !inFresh;
  }
}

/** How soon a page showed what was published, against its rule. */
export function shown(p: Probe): { state: "clear" | "broken" | "unsure"; words: string } {
  if (p.missing) return { state: "unsure", words: p.missing };
  if (!p.fresh.privateTexts?.length) return { state: "unsure", words: "does not show it even when generated fresh" };
  const waited = `${(p.waited ?? 0).toFixed(1)} s`;
  if (p.second.privateTexts?.length)
    return { state: "clear", words: (p.waited ?? 0) < 1 ? "shown at once" : `shown within ${waited}` };
  const allowed = p.allowed ?? 0;
  if (allowed < 0 || (p.waited ?? 0) < allowed) return { state: "clear", words: "not yet, and may take longer" };
  return { state: "broken", words: `not shown after ${waited}` };
}

/** How many lines of an answer are shown unasked. */
const mostLines = 60;

/** The first lines of an answer, and of the others those that are in question; and how many are not shown. */
export function shownLines(lines: string[], all: boolean, inQuestion: (line: string) => boolean) {
  const shown = all ? lines : lines.filter((l, i) => i < mostLines || inQuestion(l));
  return { shown, more: lines.length - shown.length };
}
