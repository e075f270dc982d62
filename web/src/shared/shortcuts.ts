import { useEventListener, useLocalStorage } from "@vueuse/core";

/** Whether single keys do things: who speaks to their computer, or types without looking, switches that off. */
export const singleKeys = useLocalStorage("tide-marker-single-keys", true);

// A box or a switch takes no letters: keys are for the page there, too.
const typing =
  "input:not([type=checkbox], [type=radio]), textarea, select, [contenteditable], [role=dialog], [role=alertdialog]";

/** Whether a key is for the page: pressed alone, and not where it is typed or a dialog is open. */
export function isForPage(
  e: Pick<KeyboardEvent, "ctrlKey" | "metaKey" | "altKey" | "defaultPrevented" | "target">,
): boolean {
  if (!singleKeys.value || e.defaultPrevented || e.ctrlKey || e.metaKey || e.altKey) return false;
  const at = e.target as { closest?: (selector: string) => unknown } | null;
  return !at?.closest?.(typing);
}

/** Lets keys do things while a part of the page is there; what a key does, if anything, is asked when it is pressed. */
export function useShortcuts(what: (key: string) => (() => unknown) | false | undefined) {
  useEventListener("keydown", (e: KeyboardEvent) => {
    if (!isForPage(e)) return;
    const act = what(e.key);
    if (!act) return;
    e.preventDefault(); // what it opens takes the focus; the key is not to be typed there
    act();
  });
}
