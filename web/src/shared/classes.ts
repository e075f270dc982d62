import type { Schemas } from "../api/client";

/** The kinds that a page can be of. */
export const classes = [
  "home",
  "listing",
  "item",
  "cart",
  "checkout",
  "account",
  "membership",
  "article",
  "search",
  "form",
  "other",
] as const satisfies Schemas["Found"]["class"][];
