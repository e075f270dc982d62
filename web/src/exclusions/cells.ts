import type { Cell } from "./queries";

/** How a cell is drawn: a quiet sign when policy, settings and sightings agree, a loud one when not. */
export interface Sign {
  sign: "dry" | "flooded" | "pool" | "breach" | "gap" | "idle";
  loud: boolean;
}

const policies = { never: "never cached", all: "cached for all", own: "a copy for each" } as const;

export const inWords = (p: keyof typeof policies) => policies[p];

export function signOf(c: Pick<Cell, "policy" | "trouble" | "text">): Sign {
  if (c.trouble === "leaks") return { sign: "breach", loud: true };
  if (c.trouble === "open") return { sign: "gap", loud: true };
  if (c.trouble === "wasted") return { sign: "idle", loud: false };
  return { sign: c.policy === "never" ? "dry" : c.policy === "own" ? "pool" : "flooded", loud: false };
}

/** Cells by class and then by persona, each with its devices in order; classes and people as they first come. */
export function grid(cells: Cell[]) {
  const classes: string[] = [];
  const people: string[] = [];
  const at = new Map<string, Cell[]>();
  const nobody = new Set(cells.flatMap((c) => (c.nobody ? c.persona : [])));
  for (const c of cells) {
    if (!classes.includes(c.class)) classes.push(c.class);
    if (!people.includes(c.persona)) people.push(c.persona);
    const key = `${c.class}\n${c.persona}`;
    at.set(key, [...(at.get(key) ?? []), c]);
  }
  return { classes, people, nobody, cellsOf: (cls: string, persona: string) => at.get(`${cls}\n${persona}`) ?? [] };
}

/** What the matrix comes to, in a sentence. */
export function matrixInWords(cells: Cell[]): string {
  const of = (t: Cell["trouble"]) => [...new Set(cells.filter((c) => c.trouble === t).map((c) => c.class))];
  const leaks = of("leaks");
  const open = of("open").filter((c) => !leaks.includes(c));
  const parts: string[] = [];
  if (leaks.length) parts.push(`Pages that must never be cached were served from the cache: ${leaks.join(", ")}.`);
  if (open.length) parts.push(`The settings let pages be cached that must never be: ${open.join(", ")}.`);
  if (!parts.length) return "Nobody who must never be served a cached page is served one.";
  return parts.join(" ");
}
