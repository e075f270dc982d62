import type { Schemas } from "../api/client";

type Request = Schemas["Request"];

/** What a page asked for, this time beside when the mark was taken. */
export interface Pair {
  /** Its path on the page's own host; elsewhere with the host. */
  name: string;
  was?: Request;
  is?: Request;
}

const hostOf = (r: Request) => {
  try {
    return new URL(r.url).host;
  } catch {
    return "";
  }
};

/** The host that a page itself came from: that of its document, else the one that it asked most. */
function own(list: Request[]): string {
  const document = list.find((r) => r.kind === "document");
  if (document) return hostOf(document);
  const times = new Map<string, number>();
  for (const r of list) times.set(hostOf(r), (times.get(hostOf(r)) ?? 0) + 1);
  return [...times].sort((a, b) => b[1] - a[1])[0]?.[0] ?? "";
}

/** Requests by name, each time that it was asked for by itself: a second one of an address is no other's. */
function named(list: Request[]): Map<string, Request> {
  const host = own(list);
  const times = new Map<string, number>();
  const out = new Map<string, Request>();
  for (const r of list) {
    let name = r.url;
    try {
      const u = new URL(r.url);
      name = (u.host === host ? "" : u.host) + u.pathname + u.search;
    } catch {
      // it is shown as it is
    }
    const n = (times.get(name) ?? 0) + 1;
    times.set(name, n);
    out.set(n > 1 ? `${name} (${n})` : name, r);
  }
  return out;
}

export function pairs(before: Request[], now: Request[]): Pair[] {
  const was = named(before);
  const is = named(now);
  return [...new Set([...was.keys(), ...is.keys()])].map((name) => ({ name, was: was.get(name), is: is.get(name) }));
}

export const changed = (p: Pair) => !p.was !== !p.is || p.was?.status !== p.is?.status || !!p.is?.failed;
