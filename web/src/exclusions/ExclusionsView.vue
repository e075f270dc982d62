<script setup lang="ts">
import Button from "primevue/button";
import { computed } from "vue";
import { useRouter } from "vue-router";
import { useCoverage, useExclusionActs, useLedger, useMatrix, type Cell } from "./queries";
import { useSite } from "../site/queries";
import { useSession } from "../api/session";
import AskState from "../shared/AskState.vue";
import BringLedger from "./BringLedger.vue";
import CellPane from "./CellPane.vue";
import ExclusionMatrix from "./ExclusionMatrix.vue";
import LedgerTable from "./LedgerTable.vue";
import PatternTester from "./PatternTester.vue";
import PublishingTable from "./PublishingTable.vue";
import PurgePane from "./PurgePane.vue";
import RemarkList from "./RemarkList.vue";
import SiteHead from "../site/SiteHead.vue";
import Trouble from "../shared/Trouble.vue";
import UnexplainedList from "./UnexplainedList.vue";
import TermHint from "../shared/TermHint.vue";
import { numberInAddress, textInAddress } from "../shared/address";
import { counted } from "../shared/wording";

const props = defineProps<{ id: number }>();
const { may } = useSession();
const router = useRouter();
const site = useSite(() => props.id);
const acts = useExclusionActs(() => props.id);

/** The environment whose settings are shown: production, unless another is chosen. */
const environments = computed(() => site.data.value?.environments ?? []);
const picked = numberInAddress("environment");
const environment = computed(
  () => picked.value || (environments.value.find((e) => e.role === "production") ?? environments.value.at(-1))?.id || 0,
);

const { data: ledger, error: ledgerError } = useLedger(() => props.id, {});
const { data: matrix, isPending, error, refetch } = useMatrix(environment);
const { data: coverage, error: coverageError } = useCoverage(environment);

async function testIsolation() {
  const run = await acts.isolation.mutateAsync(environment.value);
  await router.push(`/runs/${run.id}`);
}
/** The chosen cell, by its class, persona and device: another environment has one of the same name. */
const chosen = textInAddress("cell");
const named = (c: Cell) => `${c.class},${c.persona},${c.device}`;
const worst = ["leaks", "open", "wasted", ""];
/** The cell that was chosen, or the one in which most is wrong. */
const cell = computed<Cell | undefined>({
  get: () =>
    matrix.value?.cells.find((c) => named(c) === chosen.value) ??
    [...(matrix.value?.cells ?? [])].sort((a, b) => worst.indexOf(a.trouble) - worst.indexOf(b.trouble))[0],
  set: (c) => (chosen.value = c ? named(c) : ""),
});
</script>

<template>
  <SiteHead :site="id" :name="site.data.value?.name ?? ''" here="Exclusions" />
  <div class="spread">
    <h1>Who is never served a cached page, and what is excluded</h1>
    <div class="row" role="group" aria-label="Environment">
      <Button
        v-if="may('work')"
        size="small"
        text
        label="Test cache isolation"
        :loading="acts.isolation.isPending.value"
        @click="testIsolation"
      />
      <Button
        v-for="e in environments"
        :key="e.id"
        size="small"
        :outlined="e.id !== environment"
        :label="e.name"
        :aria-pressed="e.id === environment"
        @click="picked = e.id"
      />
    </div>
  </div>
  <Trouble :error="acts.isolation.error.value" />
  <AskState
    :pending="isPending"
    :error="error ?? site.error.value"
    what="The exclusions"
    @again="site.error.value ? site.refetch() : refetch()"
  >
    <div v-if="matrix" class="top">
      <ExclusionMatrix v-model="cell" :cells="matrix.cells" />
      <div v-if="cell" class="stack">
        <CellPane :cell="cell" :site="id" :run="matrix.run" />
        <PurgePane
          v-if="may('work')"
          :site="id"
          :environment="environment"
          :name="environments.find((e) => e.id === environment)?.name ?? ''"
          :cell="cell"
        />
      </div>
    </div>
    <PublishingTable v-if="matrix?.run" :run="matrix.run" />
    <Trouble :error="coverageError ?? ledgerError" />
    <section v-if="coverage" class="part stack">
      <div class="spread">
        <h2>What the rules add up to</h2>
        <span class="small faded">
          Known: {{ counted(coverage.pages, "address", "addresses") }};
          {{ counted(coverage.resources, "script, style or picture", "scripts, styles and pictures") }}.
          <Button
            v-if="may('work')"
            size="small"
            text
            label="Read the sitemap"
            :loading="acts.addresses.isPending.value"
            @click="acts.addresses.mutate()"
          />
        </span>
      </div>
      <Trouble :error="acts.addresses.error.value" />
      <RemarkList :remarks="coverage.remarks" :site="id" :pages="coverage.pages" :settings="ledger?.settings ?? []" />
    </section>
    <section v-if="ledger?.settings.length" class="part stack">
      <h2>Try a pattern</h2>
      <PatternTester :site="id" :environment="environment" :settings="ledger.settings" />
    </section>
    <section v-if="ledger" class="part stack">
      <UnexplainedList :list="ledger.unexplained" :site="id" />
      <h2>What is <TermHint of="exclusion">excluded</TermHint> and why</h2>
      <LedgerTable :site="id" />
      <details v-if="may('work')">
        <summary>Import exclusions</summary>
        <BringLedger :site="id" />
      </details>
    </section>
  </AskState>
</template>

<style scoped>
.top {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(20rem, 2fr);
  gap: var(--s4);
  align-items: start;
  margin-top: var(--s2);
}
.part {
  margin-top: var(--s5);
  border-top: 1px solid var(--rule-strong);
  padding-top: var(--s3);
}
@media (max-width: 900px) {
  .top {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
