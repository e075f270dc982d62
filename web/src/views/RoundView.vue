<script setup lang="ts">
import { computed, onMounted, onUnmounted, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useRound } from "../api/queries";
import AskState from "../parts/AskState.vue";
import { byCause } from "../parts/findings";
import FindingList from "../parts/FindingList.vue";
import Fingerprint from "../parts/Fingerprint.vue";
import HandPane from "../parts/HandPane.vue";
import LeakNotice from "../parts/LeakNotice.vue";
import ProbeTable from "../parts/ProbeTable.vue";
import ProofPane from "../parts/ProofPane.vue";
import RunningPane from "../parts/RunningPane.vue";
import SiteHead from "../parts/SiteHead.vue";
import StateGlyph from "../parts/StateGlyph.vue";
import When from "../parts/When.vue";

const props = defineProps<{ id: number }>();
const route = useRoute();
const router = useRouter();
const { data: round, isPending, error, refetch } = useRound(() => props.id);
const over = computed(() => ["done", "stopped", "failed"].includes(round.value?.state ?? ""));

const inOrder = computed(() => byCause(round.value?.findings ?? []).flatMap((c) => c.findings));
const chosen = computed<number | undefined>({
  get: () => {
    const asked = Number(route.query.finding);
    return inOrder.value.some((f) => f.id === asked) ? asked : inOrder.value[0]?.id;
  },
  set: (id) => void router.replace({ query: { finding: id } }),
});
const finding = computed(() => inOrder.value.find((f) => f.id === chosen.value));

// Notices of the server can be missed while it restarts; an open round is read now and then all the same.
let timer: ReturnType<typeof setInterval> | undefined;
watch(
  over,
  (o) => {
    clearInterval(timer);
    if (!o) timer = setInterval(() => void refetch({ cancelRefetch: false }), 3000);
  },
  { immediate: true },
);

function press(e: KeyboardEvent) {
  if (e.target instanceof HTMLElement && e.target.closest("input, textarea, [role=dialog]")) return;
  const step = { j: 1, k: -1 }[e.key];
  if (!step || !inOrder.value.length) return;
  const i = inOrder.value.findIndex((f) => f.id === chosen.value);
  chosen.value = inOrder.value[Math.min(inOrder.value.length - 1, Math.max(0, i + step))]!.id;
}
onMounted(() => addEventListener("keydown", press));
onUnmounted(() => {
  removeEventListener("keydown", press);
  clearInterval(timer);
});
const titles: Record<string, string> = {
  mark: "Mark",
  try: "Staging round",
  promote: "Promotion",
  "roll back": "Rollback",
  check: "Check",
  prove: "Proof by requests",
};
</script>

<template>
  <AskState :pending="isPending" :error="error" what="The round" @again="refetch()">
    <template v-if="round">
      <SiteHead :site="round.site" :name="round.siteName" :here="`${titles[round.kind]} ${round.id}`" />
      <div class="verdict" :class="(round.verdict || 'running').replace(' ', '-')">
        <h1>{{ over ? round.summary || round.problem : `${titles[round.kind]} on ${round.environment}` }}</h1>
        <p class="small">
          <StateGlyph :state="over ? round.verdict || round.state : 'running'" :word="over ? undefined : round.state" />
          · {{ titles[round.kind] }} on {{ round.environment }}
          <template v-if="round.change"
            >· <RouterLink :to="`/changes/${round.change}`">{{ round.changeTitle }}</RouterLink></template
          >
          · settings <Fingerprint :value="round.target || round.before" />
          <template v-if="round.mark"
            >· compared with
            <RouterLink :to="`/rounds/${round.mark.round}`">mark {{ round.mark.id }}</RouterLink></template
          >
          · <When :at="round.finishedAt ?? round.startedAt ?? round.createdAt" />, {{ round.requestedBy
          }}<template v-if="round.attempt > 1 && !round.handwork"> · taken up again after an interruption</template>
        </p>
      </div>
      <LeakNotice v-if="over" :round="round" />
      <HandPane v-if="round.handwork" :round="round" />
      <RunningPane v-if="!over && round.state !== 'by hand'" :round="round" />
      <p v-if="over && round.problem && round.problem !== round.summary" class="problem">{{ round.problem }}</p>
      <p v-if="over && (round.progress.unheld ?? []).length" class="small faded">
        Not served held before they were looked at: {{ (round.progress.unheld ?? []).join(", ") }}.
      </p>
      <ProbeTable v-if="over && round.kind === 'prove' && !inOrder.length" :round="round.id" />
      <div v-if="inOrder.length" class="two">
        <FindingList v-model="chosen" :findings="round.findings" />
        <ProofPane v-if="finding" :key="finding.id" :finding="finding" :round="round" />
      </div>
      <details v-if="over && round.kind === 'prove' && inOrder.length">
        <summary>Everything that was asked</summary>
        <ProbeTable :round="round.id" />
      </details>
      <section v-if="over && !inOrder.length && round.kind !== 'prove'" class="sheet stack">
        <h2>Nothing to look at</h2>
        <p v-if="round.verdict === 'clear'">
          {{ round.progress.looks?.done ?? 0 }} looks were made<template v-if="round.kind === 'mark'">, twice</template
          >; all agree with what was expected.
          <RouterLink v-if="round.change" :to="`/changes/${round.change}`">Go on with the change</RouterLink>
        </p>
        <p v-else>No finding is recorded.</p>
      </section>
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
.problem {
  border-left: 4px solid var(--blind);
  background: var(--blind-wash);
  padding: var(--s2) var(--s3);
}
</style>
