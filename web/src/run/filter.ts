import { refDebounced } from "@vueuse/core";
import { computed, toValue, type MaybeRefOrGetter } from "vue";
import { oneInAddress, textInAddress } from "../shared/address";
import type { Finding } from "./queries";

/** What of a finding can be asked for; what is empty leaves nothing out. */
export interface Wanted {
  q: string;
  kind: string;
  severity: string;
  state: string;
}

/** The findings that are wanted, in the order they came. */
export function matching<F extends Pick<Finding, "title" | "page" | "kind" | "severity" | "state">>(
  findings: F[],
  wanted: Wanted,
): F[] {
  const q = wanted.q.trim().toLowerCase();
  return findings.filter(
    (f) =>
      (!wanted.kind || f.kind === wanted.kind) &&
      (!wanted.severity || f.severity === wanted.severity) &&
      (!wanted.state || (f.state === "accepted") === (wanted.state === "accepted")) &&
      (!q || f.title.toLowerCase().includes(q) || f.page.toLowerCase().includes(q)),
  );
}

const severities = ["broken", "unsure", "note"] as const;

/** Which findings of a run are listed, in the address. */
export function useFindingFilter(findings: MaybeRefOrGetter<Finding[]>) {
  const q = textInAddress("q");
  const typed = refDebounced(q, 150);
  const kind = textInAddress("kind");
  const severity = oneInAddress("severity", ["", ...severities], "");
  const state = oneInAddress("state", ["", "open", "accepted"], "");
  const kinds = computed(() => [...new Set(toValue(findings).map((f) => f.kind))].sort());
  const shown = computed(() =>
    matching(toValue(findings), { q: typed.value, kind: kind.value, severity: severity.value, state: state.value }),
  );
  return { q, kind, severity, state, kinds, severities, shown };
}

export type FindingFilter = ReturnType<typeof useFindingFilter>;
