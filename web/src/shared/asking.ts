import { useConfirm } from "primevue/useconfirm";

/** Something that cannot be taken back, or not easily: what it does, and to what. */
export interface Asked {
  title: string;
  /** What happens, and what is lost. */
  says: string;
  verb: string;
  go: () => unknown;
}

/** Asks before something is lost. The button that does it has not the focus, so that a key pressed too often does nothing. */
export function useAsking() {
  const confirm = useConfirm();
  return (q: Asked) =>
    confirm.require({
      header: q.title,
      message: q.says,
      acceptLabel: q.verb,
      rejectLabel: "Cancel",
      rejectProps: { text: true },
      defaultFocus: "reject",
      accept: () => void q.go(),
    });
}
