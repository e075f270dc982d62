/** A column of a list that comes in pages. */
export interface PagedColumn {
  name: string;
  title: string;
  /** The order of the server that it stands for; without one the list cannot be sorted by it. */
  sort?: string;
  /** Its order is the list's own, the latest first, until somebody chooses another. */
  first?: true;
  /** Its title is heard only. */
  silent?: boolean;
}

/** Where all rows that are asked for can be had: the address of a list's export, without what says which page. */
export function exportOf(path: string, asked: Record<string, string | number | boolean | undefined>): string {
  const q = new URLSearchParams();
  for (const [k, v] of Object.entries(asked)) {
    if (v !== undefined && v !== "" && v !== 0 && !["limit", "offset"].includes(k)) q.set(k, String(v));
  }
  return `${path}/export?${q}`;
}
