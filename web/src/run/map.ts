import type { Schemas } from "../api/client";
import type { Finding } from "./queries";

type Look = Schemas["LookSummary"];

/** What was seen at one place: the worst that is open, or what everything else comes to. */
export type CellState = "broken" | "unsure" | "not checked" | "accepted" | "note" | "clear" | "not seen";

export interface MapCell {
  state: CellState;
  /** Open findings there, the first of which is shown. */
  findings: Finding[];
}

export interface VerdictMap {
  columns: { persona: string; device: string }[];
  rows: { name: string; journey: boolean; cells: MapCell[] }[];
}

const order: CellState[] = ["broken", "unsure", "not checked", "accepted", "note"];

function stateOf(findings: Finding[]): CellState {
  const states = findings.map((f): CellState => {
    if (f.state === "accepted") return "accepted";
    if (f.kind === "not-checked") return "not checked";
    return f.severity;
  });
  return order.find((s) => states.includes(s)) ?? "clear";
}

/**
 * Pages and journeys down, people and devices across. A place without a look was not seen, which is not the same as clear;
 * one that has findings but no look (the site did not answer) is there by its findings.
 */
export function verdictMap(looks: Look[], findings: Finding[]): VerdictMap {
  const columns = new Map<string, { persona: string; device: string }>();
  const rows = new Map<string, { name: string; journey: boolean }>();
  const seen = new Set<string>();
  const held = new Map<string, Finding[]>();
  const place = (of: { page: string; journey?: string; persona: string; device: string }) => {
    const row = of.journey ? `j ${of.journey}` : `p ${of.page}`;
    const column = `${of.persona} ${of.device}`;
    if (!columns.has(column)) columns.set(column, { persona: of.persona, device: of.device });
    if (!rows.has(row)) rows.set(row, { name: of.journey || of.page, journey: !!of.journey });
    return `${row}\n${column}`;
  };
  for (const l of looks) if (l.kind !== "probe") seen.add(place(l));
  for (const f of findings) {
    const at = place(f);
    held.set(at, [...(held.get(at) ?? []), f]);
  }
  // Of one persona its devices stand beside each other.
  const people = [...new Set([...columns.values()].map((c) => c.persona))];
  const across = [...columns].sort(
    ([, a], [, b]) => people.indexOf(a.persona) - people.indexOf(b.persona) || b.device.localeCompare(a.device),
  );
  const down = [...rows].sort(([, a], [, b]) => Number(a.journey) - Number(b.journey));
  return {
    columns: across.map(([, c]) => c),
    rows: down.map(([row, r]) => ({
      ...r,
      cells: across.map(([column]) => {
        const at = `${row}\n${column}`;
        const found = [...(held.get(at) ?? [])].sort(
          (a, b) => order.indexOf(stateOf([a])) - order.indexOf(stateOf([b])),
        );
        return { state: found.length || seen.has(at) ? stateOf(found) : "not seen", findings: found };
      }),
    })),
  };
}

/** How many places came to what, in words, the worst first. */
export function summed(map: VerdictMap): string {
  const counts = new Map<CellState, number>();
  for (const c of map.rows.flatMap((r) => r.cells)) counts.set(c.state, (counts.get(c.state) ?? 0) + 1);
  return [...order, "clear" as const]
    .filter((s) => counts.get(s))
    .map((s) => `${counts.get(s)} ${s}`)
    .join(", ");
}

/** Findings of how pages look, the largest difference first, one for each cause. */
export function largest(findings: Finding[], most: number): Finding[] {
  const size = (f: Finding) => f.region?.changed ?? 0;
  const of = findings.filter((f) => f.kind === "picture" && f.region).sort((a, b) => size(b) - size(a));
  return of.filter((f, i) => of.findIndex((x) => x.cause === f.cause) === i).slice(0, most);
}
