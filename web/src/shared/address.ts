import { useRouteQuery } from "@vueuse/router";
import { computed, type WritableComputedRef } from "vue";

/*
 * What somebody chose to see is part of the address: it can be sent to a colleague, and comes back with the page. What is
 * chosen by default is not in it.
 */

/** A text in the address. */
export function textInAddress<T extends string = string>(name: string, otherwise: T = "" as T) {
  return useRouteQuery<T>(name, otherwise, { mode: "replace" });
}

/** One of some words in the address; any other word counts as the default. */
export function oneInAddress<T extends string>(
  name: string,
  among: readonly T[],
  otherwise: T,
): WritableComputedRef<T> {
  const raw = textInAddress<string>(name, otherwise);
  return computed({ get: () => among.find((w) => w === raw.value) ?? otherwise, set: (w) => (raw.value = w) });
}

/** A switch in the address, off when it says nothing. */
export function flagInAddress(name: string): WritableComputedRef<boolean> {
  const raw = textInAddress<string>(name);
  return computed({ get: () => raw.value === "yes", set: (on) => (raw.value = on ? "yes" : "") });
}

/** A whole number in the address, 0 when it says none. */
export function numberInAddress(name: string): WritableComputedRef<number> {
  const raw = textInAddress<string>(name);
  return computed({
    get: () => (/^\d{1,15}$/.test(raw.value) ? Number(raw.value) : 0),
    set: (n) => (raw.value = n ? String(n) : ""),
  });
}
