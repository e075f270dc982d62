import { refDebounced } from "@vueuse/core";
import { computed, watch } from "vue";
import { exportOf } from "../shared/paged";
import { flagInAddress, numberInAddress, oneInAddress, textInAddress } from "../shared/address";
import { runKinds, verdicts } from "../shared/wording";
import { pageSize, type Asked, type RunRow } from "./queries";

/** What is asked of a list: all of it is in the address, and another question begins at the first page. */
export function useAsked(site: () => number, list: string) {
  const q = textInAddress("q");
  const typed = refDebounced(q, 250);
  const environment = numberInAddress("environment");
  const state = textInAddress("state");
  const kind = oneInAddress<"" | RunRow["kind"]>("kind", Object.keys(runKinds) as RunRow["kind"][], "");
  const verdict = oneInAddress("verdict", ["", ...verdicts] as const, "");
  const sort = textInAddress("by");
  const up = flagInAddress("up");
  const first = numberInAddress("from");
  const down = computed({ get: () => !up.value, set: (d) => (up.value = !d) });
  watch([typed, environment, state, kind, verdict], () => (first.value = 0));
  const asked = computed<Asked>(() => ({
    q: typed.value || undefined,
    environment: environment.value || undefined,
    state: state.value || undefined,
    kind: kind.value || undefined,
    verdict: verdict.value || undefined,
    sort: sort.value || undefined,
    down: down.value,
    offset: first.value,
  }));
  const csv = computed(() => exportOf(`/api/v1/sites/${site()}/${list}`, { ...asked.value }));
  const filtered = computed(() => !!(q.value || environment.value || state.value || kind.value || verdict.value));
  return { q, environment, state, kind, verdict, sort, down, first, size: pageSize, asked, csv, filtered };
}
