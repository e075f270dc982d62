import { settingInWords } from "../shared/wording";
import type { Change } from "./queries";

/** What a change is called until it does something, or somebody calls it something. */
export const unnamed = "New change";

type Named = Pick<Change, "title"> & {
  catalogue: { settings: Pick<Change["catalogue"]["settings"][number], "key" | "title" | "type">[] };
  edits: Record<string, unknown>;
};

/** What edits do, in the catalogue's order: the first, and how many more. */
export function titleOf(of: Pick<Named, "catalogue">, edits: Record<string, unknown>): string {
  const set = of.catalogue.settings.filter((d) => d.key in edits);
  if (!set.length) return unnamed;
  const first = `${set[0]!.title}: ${settingInWords(set[0]!.type, edits[set[0]!.key])}`;
  const cut = first.length > 80 ? `${first.slice(0, 79)}…` : first;
  return set.length === 1 ? cut : `${cut}, and ${set.length - 1} more`;
}

/** The title of a change with new edits: it says what they do, unless somebody called it something else. */
export function named(of: Named, edits: Record<string, unknown>): string {
  return of.title === titleOf(of, of.edits) || of.title === unnamed ? titleOf(of, edits) : of.title;
}
