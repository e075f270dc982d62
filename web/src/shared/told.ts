import { useToast } from "primevue/usetoast";

/** How long something that was done is told of, in ms: long enough to read it and to reach the button. */
const life = 12_000;

/** What is told, with a way to take it back. */
export interface Told {
  says: string;
  undo?: () => unknown;
}

/** Tells that something was done where nothing else on the page says it, and offers to take it back. */
export function useTold() {
  const toast = useToast();
  return ({ says, undo }: Told) => toast.add({ severity: "secondary", summary: says, detail: undo, life });
}
