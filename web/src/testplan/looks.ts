import type { Schemas } from "../api/client";
import { lacking, linesOf, stepOf, type Line } from "./steps";

/** Personas, journeys and publishing tests. */
export interface Looks {
  personas: Schemas["Persona"][];
  journeys: Schemas["Journey"][];
  publishing: Schemas["PublishingTest"][];
}
export type LookKind = keyof Looks;
export type Device = "desktop" | "phone";

/** One of them, as a form has it. */
export interface Draft {
  kind: LookKind;
  /** Where it stands in its list; -1 when it is new. */
  index: number;
  name: string;
  /** Of a persona. */
  who: Schemas["Persona"]["kind"];
  privateTexts: string;
  /** Who takes a journey, or publishes an edit. */
  persona: string;
  devices: Device[];
  stagingOnly: boolean;
  lines: Line[];
  /** What comes after: signing out, or taking an edit back. */
  after: Line[];
  shows: { page: string; within: string }[];
}

export const kindsOfPersona = ["visitor", "visitor-with-cart", "customer", "member", "editor"] as const;

export function draftOf(kind: LookKind, index: number, looks: Looks): Draft {
  const p = kind === "personas" ? looks.personas[index] : undefined;
  const j = kind === "journeys" ? looks.journeys[index] : undefined;
  const e = kind === "publishing" ? looks.publishing[index] : undefined;
  const editor = looks.personas.find((x) => x.kind === "editor")?.name;
  return {
    kind,
    index,
    name: p?.name ?? j?.name ?? e?.name ?? "",
    who: p?.kind ?? "member",
    privateTexts: (p?.privateTexts ?? []).join(", "),
    persona: j?.persona ?? e?.persona ?? (kind === "publishing" && editor ? editor : "visitor"),
    devices: (j?.devices as Device[]) ?? ["desktop", "phone"],
    stagingOnly: j ? !!j.where?.length : true,
    lines: (p?.prepare ?? j?.steps ?? e?.steps ?? [{ go: "/" }]).flatMap(linesOf),
    after: (p?.signOut ?? e?.undo ?? []).flatMap(linesOf),
    shows: (e?.shows ?? []).map((s) => ({ page: s.page, within: s.within ? String(s.within) : "" })),
  };
}

/** A draft of a new journey from what a browser recorded. */
export function draftOfRecording(j: Looks["journeys"][number], looks: Looks): Draft {
  const empty = draftOf("journeys", -1, looks);
  return {
    ...empty,
    name: j.name,
    devices: (j.devices as Device[] | undefined) ?? empty.devices,
    lines: (j.steps ?? []).flatMap(linesOf),
  };
}

/** What keeps a draft from being kept, in words; "" when nothing does. */
export function unfinished(d: Draft): string {
  if (!d.name.trim()) return "Give it a name.";
  if ([...d.lines, ...d.after].some(lacking)) return "A step is not finished.";
  if (d.kind !== "personas" && !d.lines.length) return "It needs a step.";
  if (d.kind === "journeys" && !d.devices.length) return "Say on which devices.";
  if (d.kind === "publishing") {
    if (!d.lines.some((l) => l.verb === "fill" && l.value.includes("{canary}")))
      return "One step has to fill in {canary}, a word made up each time, to recognise the edit on the page.";
    if (!d.shows.length) return "Say which page has to show it.";
    if (d.shows.some((s) => !s.page)) return "Choose the page that has to show it.";
    if (d.shows.some((s) => s.within && !/^[1-9]\d*$/.test(s.within))) return "Seconds are a whole number.";
  }
  return "";
}

/** The lists with a draft put where it belongs. first is the environment that things are tried on. */
export function withDraft(looks: Looks, d: Draft, first: string): Looks {
  const put = <T>(list: T[], one: T) => (d.index < 0 ? [...list, one] : list.map((x, n) => (n === d.index ? one : x)));
  const name = d.name.trim();
  const steps = d.lines.map(stepOf);
  const after = d.after.map(stepOf);
  switch (d.kind) {
    case "personas": {
      const privateTexts = d.privateTexts.split(",").flatMap((m) => m.trim() || []);
      const one = { ...looks.personas[d.index], name, kind: d.who, privateTexts, prepare: steps, signOut: after };
      return { ...renamed(looks, looks.personas[d.index]?.name, name), personas: put(looks.personas, one) };
    }
    case "journeys": {
      const where = d.stagingOnly ? [first] : undefined;
      const one = { ...looks.journeys[d.index], name, persona: d.persona, devices: d.devices, where, steps };
      return { ...looks, journeys: put(looks.journeys, one) };
    }
    case "publishing": {
      const shows = d.shows.map((s) => (s.within ? { page: s.page, within: Number(s.within) } : { page: s.page }));
      const one = { ...looks.publishing[d.index], name, persona: d.persona, steps, undo: after, shows };
      return { ...looks, publishing: put(looks.publishing, one) };
    }
  }
}

/** The lists with a persona under another name wherever it is named. */
function renamed(looks: Looks, was: string | undefined, is: string): Looks {
  if (!was || was === is) return looks;
  const to = <T extends { persona?: string }>(x: T): T => (x.persona === was ? { ...x, persona: is } : x);
  return { ...looks, journeys: looks.journeys.map(to), publishing: looks.publishing.map(to) };
}

/** The lists without one of them. */
export function without(looks: Looks, kind: LookKind, index: number): Looks {
  const left = <T>(list: T[], of: LookKind) => (of === kind ? list.filter((_, n) => n !== index) : list);
  return {
    personas: left(looks.personas, "personas"),
    journeys: left(looks.journeys, "journeys"),
    publishing: left(looks.publishing, "publishing"),
  };
}

type Page = Schemas["Page"];

/** Pages that name who looks, after personas were renamed or left out; a page that nobody is left for is the visitor's. */
export function pagesFor(pages: Page[], before: Looks["personas"], after: Looks["personas"]): Page[] {
  const names = new Set(after.map((p) => p.name));
  const to = new Map<string, string>();
  if (before.length === after.length) before.forEach((p, i) => !names.has(p.name) && to.set(p.name, after[i]!.name)); // in its place is who it is now
  const is = (name: string) => to.get(name) ?? (name === "visitor" || names.has(name) ? name : []);
  return pages.map((p) => {
    const personas = (p.personas ?? []).flatMap(is);
    return { ...p, personas: personas.length ? personas : ["visitor"] };
  });
}

/** What an answer says of a page, as a form has it. */
export interface PageDraft {
  /** The path that it had; "" when it is new. */
  was: string;
  path: string;
  class: NonNullable<Page["class"]>;
  personas: string[];
  devices: Device[];
  formLives: string;
  masks: { selector: string; reason: string }[];
}

export function pageDraftOf(p?: Page): PageDraft {
  return {
    was: p?.path ?? "",
    path: p?.path ?? "/",
    class: p?.class ?? "other",
    personas: [...(p?.personas ?? ["visitor"])],
    devices: [...((p?.devices as Device[]) ?? ["desktop", "phone"])],
    formLives: p?.formLives ? String(p.formLives) : "",
    masks: (p?.masks ?? []).map((m) => ({ selector: m.selector, reason: m.reason ?? "" })),
  };
}

/** What keeps a page from being kept, in words; "" when nothing does. */
export function unfinishedPage(d: PageDraft, pages: Page[]): string {
  const path = d.path.trim();
  if (!path.startsWith("/")) return "A path begins with /.";
  if (path !== d.was && pages.some((p) => p.path === path)) return "This page is in the test plan already.";
  if (!d.personas.length) return "Choose at least one persona.";
  if (!d.devices.length) return "Say on which devices.";
  if (d.formLives && !/^[1-9]\d*$/.test(d.formLives)) return "Seconds are a whole number.";
  if (d.masks.some((m) => !m.selector.trim())) return "A mask needs a selector.";
  return "";
}

/** The pages with one put where it belongs. */
export function withPage(pages: Page[], d: PageDraft): Page[] {
  const masks = d.masks.map((m) => ({ selector: m.selector.trim(), ...(m.reason ? { reason: m.reason } : {}) }));
  const one: Page = {
    path: d.path.trim(),
    class: d.class,
    personas: d.personas,
    devices: d.devices,
    ...(masks.length ? { masks } : {}),
    ...(d.formLives ? { formLives: Number(d.formLives) } : {}),
  };
  return d.was ? pages.map((p) => (p.path === d.was ? one : p)) : [...pages, one];
}

/** The publishing tests with a page under another path; one that no page is left for is left as it is, to be said so. */
export function publishingFor(publishing: Looks["publishing"], was: string, is: string): Looks["publishing"] {
  return publishing.map((e) => ({ ...e, shows: e.shows?.map((s) => (s.page === was ? { ...s, page: is } : s)) ?? [] }));
}
