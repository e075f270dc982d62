import { keepPreviousData, useQuery } from "@tanstack/vue-query";
import { toValue, type MaybeRefOrGetter } from "vue";
import { api, body, type Schemas } from "../api/client";

export type Found = Schemas["FoundView"];

export const shortest = 2;

/** What has a text, over everything; asked for from two characters on. */
export function useFound(text: MaybeRefOrGetter<string>) {
  const words = () => toValue(text).trim();
  return useQuery({
    queryKey: ["found", words],
    queryFn: () => body(api.GET("/api/v1/search", { params: { query: { q: words() } } })),
    enabled: () => words().length >= shortest,
    placeholderData: keepPreviousData,
  });
}

export const kinds: [Found["kind"], string][] = [
  ["site", "Sites"],
  ["change", "Changes"],
  ["setting", "Settings"],
  ["exclusion", "Exclusions"],
  ["page", "Pages"],
  ["finding", "Findings"],
];

/** What was found, kind by kind in one order, each with its place in the whole list. */
export function grouped(found: Found[]): { title: string; items: { at: number; found: Found }[] }[] {
  let at = 0;
  return kinds
    .map(([kind, title]) => ({ title, items: found.filter((f) => f.kind === kind) }))
    .filter((g) => g.items.length)
    .map((g) => ({ title: g.title, items: g.items.map((found) => ({ at: at++, found })) }));
}

/** A text cut where it was found, to show why. */
export function around(text: string, words: string): [before: string, hit: string, after: string] {
  const i = words ? text.toLowerCase().indexOf(words.toLowerCase()) : -1;
  return i < 0 ? [text, "", ""] : [text.slice(0, i), text.slice(i, i + words.length), text.slice(i + words.length)];
}
