<script setup lang="ts">
import { computed, onUnmounted, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import Button from "primevue/button";
import { useRunActs, useRun } from "./queries";
import { useSession } from "../api/session";
import AskState from "../shared/AskState.vue";
import { nextOpen } from "./decisions";
import { useFindingFilter } from "./filter";
import FindingFilter from "./FindingFilter.vue";
import { byCause } from "./findings";
import CommentList from "../shared/CommentList.vue";
import FindingCsv from "./FindingCsv.vue";
import FindingList from "./FindingList.vue";
import PredictedTable from "./PredictedTable.vue";
import Fingerprint from "../shared/Fingerprint.vue";
import ManualTaskPane from "./ManualTaskPane.vue";
import LeakNotice from "./LeakNotice.vue";
import MeasurePane from "../measure/MeasurePane.vue";
import PrintButton from "../shared/PrintButton.vue";
import ProbeTable from "./ProbeTable.vue";
import ProofPane from "./ProofPane.vue";
import SearchPane from "./SearchPane.vue";
import ChangedStrip from "./ChangedStrip.vue";
import RecheckTable from "./RecheckTable.vue";
import RunMap from "./RunMap.vue";
import RunNext from "./RunNext.vue";
import RunningPane from "./RunningPane.vue";
import SiteHead from "../site/SiteHead.vue";
import StateGlyph from "../shared/StateGlyph.vue";
import When from "../shared/When.vue";
import { counted, runKinds } from "../shared/wording";
import { useShortcuts } from "../shared/shortcuts";

const props = defineProps<{ id: number }>();
const acts = useRunActs();
const { may } = useSession();
const route = useRoute();
const router = useRouter();
const { data: run, isPending, error, refetch } = useRun(() => props.id);
const over = computed(() => ["done", "stopped", "failed"].includes(run.value?.state ?? ""));

const filter = useFindingFilter(() => run.value?.findings ?? []);
const inOrder = computed(() => byCause(filter.shown.value).flatMap((c) => c.findings));
/** Found at all, whatever is listed. */
const found = computed(() => run.value?.findings.length ?? 0);
const chosen = computed<number | undefined>({
  get: () => {
    const asked = Number(route.query.finding);
    return inOrder.value.some((f) => f.id === asked) ? asked : inOrder.value[0]?.id;
  },
  set: (id) => void router.replace({ query: { ...route.query, finding: id } }),
});
const finding = computed(() => inOrder.value.find((f) => f.id === chosen.value));

// Notices of the server can be missed while it restarts; an open run is read now and then all the same.
let timer: ReturnType<typeof setInterval> | undefined;
watch(
  over,
  (o) => {
    clearInterval(timer);
    if (!o) timer = setInterval(() => void refetch({ cancelRefetch: false }), 3000);
  },
  { immediate: true },
);

function step(by: 1 | -1) {
  if (!inOrder.value.length) return;
  const i = inOrder.value.findIndex((f) => f.id === chosen.value);
  chosen.value = inOrder.value[Math.min(inOrder.value.length - 1, Math.max(0, i + by))]!.id;
}
useShortcuts((key) => {
  if (key === "j") return () => step(1);
  if (key === "k") return () => step(-1);
  const next = key === "n" && nextOpen(inOrder.value, chosen.value);
  return next && (() => (chosen.value = next.id));
});
onUnmounted(() => clearInterval(timer));
</script>

<template>
  <AskState :pending="isPending" :error="error" what="The run" @again="refetch()">
    <template v-if="run">
      <SiteHead :site="run.site" :name="run.siteName" :here="`${runKinds[run.kind]} ${run.id}`" />
      <div class="verdict" :class="(run.verdict || 'running').replace(' ', '-')">
        <h1>{{ over ? run.summary || run.problem : `${runKinds[run.kind]} on ${run.environment}` }}</h1>
        <p class="small">
          <StateGlyph
            :state="over ? run.verdict || run.state : 'running'"
            :word="over ? (run.kind === 'measure' && run.verdict === 'clear' ? 'measured' : undefined) : run.state"
          />
          · {{ runKinds[run.kind] }} on {{ run.environment }}
          <template v-if="run.change"
            >· <RouterLink :to="`/changes/${run.change}`">{{ run.changeTitle }}</RouterLink></template
          >
          · settings <Fingerprint :value="run.target || run.before" />
          <template v-if="run.mark"
            >· compared with <RouterLink :to="`/runs/${run.mark.run}`">mark {{ run.mark.id }}</RouterLink></template
          >
          · <When :at="run.finishedAt ?? run.startedAt ?? run.createdAt" />, {{ run.requestedBy
          }}<template v-if="run.attempt > 1 && !run.manualTask"> · taken up again after an interruption</template>
        </p>
      </div>
      <div v-if="over" class="row acts">
        <RunNext v-if="run.change && may('work') && run.kind !== 'measure'" :change="run.change" />
        <Button
          v-if="run.noSearch === '' && may('work')"
          size="small"
          outlined
          label="Find the culprit"
          :title="`Tries parts of the change on ${run.environment} until it knows which edit breaks it, then restores the settings.`"
          :disabled="acts.findCulprit.isPending.value"
          @click="acts.findCulprit.mutate(run.id, { onSuccess: (r) => router.push(`/runs/${r.id}`) })"
        />
        <span v-if="run.searches.length" class="small faded"
          >Searched in
          <template v-for="(n, i) in run.searches" :key="n"
            >{{ i ? ", " : "" }}<RouterLink :to="`/runs/${n}`">run {{ n }}</RouterLink></template
          >.</span
        >
        <RouterLink v-if="run.change" :to="`/changes/${run.change}`" class="small">Go to the change</RouterLink>
        <RouterLink
          v-if="!['measure', 'culprit search'].includes(run.kind)"
          :to="`/runs/${run.id}/compare${run.mark ? `?with=${run.mark.run}` : ''}`"
          class="small"
          >Compare with another run</RouterLink
        >
        <PrintButton />
      </div>
      <LeakNotice v-if="over" :run="run" />
      <ManualTaskPane v-if="run.manualTask" :run="run" />
      <section v-if="run.state === 'unknown'" class="sheet stack" role="status">
        <h2>It is not known which settings {{ run.environment }} has</h2>
        <p>
          The site gave no proper answer and could not be read back. It is read again until its settings are known; then
          this run continues{{ run.stopAsked ? ", and is stopped" : "" }}.
          <RouterLink :to="`/sites/${run.site}`">See {{ run.siteName }}</RouterLink>
        </p>
        <p class="small faded">{{ run.progress.now }}</p>
      </section>
      <RunningPane v-else-if="!over && run.state !== 'by hand'" :run="run" />
      <SearchPane v-if="run.search" :run="run" />
      <MeasurePane v-if="run.kind === 'measure' && run.measure?.rounds" :run="run" />
      <p v-if="over && run.restores" class="small">
        {{
          run.restored
            ? `${run.environment} has what it had before: read back with the same fingerprint.`
            : `${run.environment} could not be restored.`
        }}
      </p>
      <p v-if="run.gone" class="small faded">
        Its looks and pictures were removed <When :at="run.gone" />, as
        <RouterLink :to="`/sites/${run.site}/kept`">the site says</RouterLink>. What was found stays.
      </p>
      <p v-if="over && run.problem && run.problem !== run.summary" class="callout blind">{{ run.problem }}</p>
      <p v-if="over && (run.progress.uncached ?? []).length" class="small faded">
        Not in the cache before they were checked: {{ (run.progress.uncached ?? []).join(", ") }}.
      </p>
      <ProbeTable v-if="over && run.kind === 'isolation test' && !found" :run="run.id" />
      <div v-if="!['measure', 'culprit search'].includes(run.kind)" class="glance">
        <RunMap v-model="chosen" :run="run" />
        <ChangedStrip v-model="chosen" :run="run" />
      </div>
      <div v-if="found" class="two">
        <div>
          <FindingFilter v-if="found > 8" :filter="filter" :all="found" :shown="inOrder.length" />
          <FindingList v-model="chosen" :findings="filter.shown.value" />
          <FindingCsv v-if="over" :run="run" />
        </div>
        <ProofPane v-if="finding" :key="finding.id" :finding="finding" :run="run" />
      </div>
      <details v-if="over && run.kind === 'isolation test' && found">
        <summary>All requests</summary>
        <ProbeTable :run="run.id" />
      </details>
      <PredictedTable v-if="over" :run="run.id" class="later" />
      <details v-if="run.kind !== 'measure' && run.measure?.rounds" class="later">
        <summary>Speed, measured beside it</summary>
        <MeasurePane :run="run" />
      </details>
      <RecheckTable v-if="run.rechecks?.length" :rechecks="run.rechecks" class="later" />
      <section
        v-if="over && !found && !['isolation test', 'culprit search', 'measure'].includes(run.kind)"
        class="sheet stack"
      >
        <h2>No evidence</h2>
        <p v-if="run.verdict === 'clear'">
          {{ counted(run.progress.looks?.done ?? 0, "look") }}<template v-if="run.kind === 'mark'">, twice</template>:
          nothing but what was expected.
        </p>
        <p v-else>No findings.</p>
      </section>
      <CommentList v-if="over" :about="{ of: 'runs', id: run.id }" class="later" />
    </template>
  </AskState>
</template>

<style scoped>
.verdict {
  border-left: 8px solid var(--deep);
  padding: 2px var(--s3) 4px;
  margin-bottom: var(--s3);
}
.verdict.clear {
  border-color: var(--clear);
}
.verdict.broken {
  border-color: var(--broken);
}
.verdict.unsure {
  border-color: var(--unsure);
}
.verdict.not-checked {
  border-color: var(--blind);
}
.two {
  display: grid;
  grid-template-columns: 22rem minmax(0, 1fr);
  gap: var(--s4);
  margin-top: var(--s3);
}
.two > :first-child {
  max-height: calc(100vh - 190px);
  overflow: auto;
}
.glance {
  display: flex;
  flex-wrap: wrap;
  gap: var(--s3) var(--s5);
  margin-top: var(--s3);
}
.glance > * {
  min-width: 0;
}
.acts {
  margin-bottom: var(--s2);
}
.later {
  margin-top: var(--s4);
}
@media (max-width: 900px) {
  .two {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
