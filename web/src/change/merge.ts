/** Edits of one change made by two people at once. */

export type Edits = Record<string, unknown>;

export interface Merge {
  /** Edits that do not meet, of both. */
  both: Edits;
  /** Keys that both set, each otherwise. Undefined: without an edit. */
  asked: { key: string; theirs: unknown; yours: unknown }[];
}

const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b);

/** Lays what two people made of the same edits over each other; nothing of either is lost. */
export function merge(before: Edits, theirs: Edits, yours: Edits): Merge {
  const out: Merge = { both: { ...theirs }, asked: [] };
  for (const key of new Set([...Object.keys(before), ...Object.keys(yours)])) {
    if (same(before[key], yours[key]) || same(theirs[key], yours[key])) continue;
    if (same(before[key], theirs[key])) {
      if (key in yours) out.both[key] = yours[key];
      else delete out.both[key];
    } else {
      out.asked.push({ key, theirs: theirs[key], yours: yours[key] });
    }
  }
  return out;
}
