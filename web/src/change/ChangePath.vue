<script setup lang="ts">
/** The way of a change: where it stands, the next step, and why a step is not allowed yet. */
import { computed } from "vue";
import type { Change } from "./queries";
import { useSession } from "../api/session";
import ChangeActs from "./ChangeActs.vue";
import ApprovalPane from "./ApprovalPane.vue";
import CommentList from "../shared/CommentList.vue";
import ExpectPane from "./ExpectPane.vue";
import MeasureForm from "./MeasureForm.vue";
import StateGlyph from "../shared/StateGlyph.vue";
import WatchPane from "./WatchPane.vue";
import When from "../shared/When.vue";

const props = defineProps<{
  change: Change;
  /** Waits until what was edited is saved; false when it is not. */
  saved: () => Promise<boolean>;
}>();

const steps = computed(() => [
  { name: "drafted", done: true },
  { name: `tried on ${props.change.staging}`, done: !["drafted", "trying"].includes(props.change.state) },
  {
    name: "checked clear",
    done: last("try")?.verdict === "clear" && last("try")?.target === props.change.fingerprint,
  },
  {
    name: `promoted to ${props.change.production}`,
    done: ["promoted", "marked", "settled"].includes(props.change.state),
  },
  { name: "marked", done: ["marked", "settled"].includes(props.change.state) },
  { name: "settled", done: props.change.state === "settled" },
]);
function last(kind: string) {
  return props.change.runs.find((r) => r.kind === kind && r.finishedAt);
}

const { may } = useSession();
const measured = computed(() => last("measure"));
/** Staging has the change, and nothing is under way there. */
const measurable = computed(
  () => ["on staging", "checked"].includes(props.change.state) && props.change.runs.every((r) => r.finishedAt),
);

/** A person has to say whether it stands. */
const settle = computed(() => props.change.choices.some((c) => c.event === "settle" && c.allowed));

/** What is expected can still be said: it is not on its way to production, there, or gone. */
const settling = computed(() => ["drafted", "on staging", "checked"].includes(props.change.state));
</script>

<template>
  <section class="stack">
    <ol class="way">
      <li v-for="s in steps" :key="s.name" :class="{ done: s.done }">
        {{ s.name }}<span class="visually-hidden">{{ s.done ? " (done)" : " (not yet)" }}</span>
      </li>
    </ol>
    <p><StateGlyph :state="change.state" /></p>
    <p v-if="change.explanation" class="small">{{ change.explanation }}</p>
    <ChangeActs v-slot="{ event }" :change="change" :saved="saved">
      <ApprovalPane v-if="event === 'promote' || event === 'tidy'" :change="change" class="approval" />
    </ChangeActs>
    <WatchPane v-if="change.watch" :watch="change.watch" :settle="settle" />
    <div v-if="measurable || measured || change.expected || settling" class="stack">
      <h2>Speed</h2>
      <p v-if="change.effect" class="small faded">Expected: {{ change.effect }}</p>
      <p v-if="measured" class="small">
        {{ measured.summary }} <RouterLink :to="`/runs/${measured.id}`">See run {{ measured.id }}</RouterLink
        ><template v-if="measured.target !== change.fingerprint">
          It was measured with other settings than the change has now.</template
        >
      </p>
      <p v-else class="small">Not measured yet.</p>
      <ExpectPane :change="change" :editable="settling && may('work')" />
      <MeasureForm v-if="measurable && may('work')" :change="change" :again="!!measured" />
    </div>
    <div v-if="change.runs.length">
      <h2>Runs</h2>
      <ul class="plain-list">
        <li v-for="r in change.runs" :key="r.id" class="run">
          <RouterLink :to="`/runs/${r.id}`">{{ r.kind }}, {{ r.environment }}</RouterLink>
          <StateGlyph
            :state="r.finishedAt ? r.verdict || r.state : r.state"
            :word="r.kind === 'measure' && r.verdict === 'clear' ? 'measured' : undefined"
          />
          <span class="small faded"><When :at="r.finishedAt ?? r.createdAt" short /></span>
        </li>
      </ul>
    </div>
    <CommentList :about="{ of: 'changes', id: change.id }" />
  </section>
</template>

<style scoped>
.way {
  list-style: none;
  margin: 0;
  padding: 0 0 0 14px;
  border-left: 2px solid var(--rule-strong);
}
.way li {
  position: relative;
  padding: 2px 0;
  color: var(--faded);
}
.way li::before {
  content: "";
  position: absolute;
  left: -20px;
  top: 8px;
  width: 10px;
  height: 10px;
  border: 2px solid var(--rule-strong);
  background: var(--paper);
}
.way li.done {
  color: var(--ink);
  font-weight: 600;
}
.way li.done::before {
  background: var(--deep);
  border-color: var(--deep);
}
.approval {
  margin: var(--s1) 0 var(--s2);
}
.run {
  display: flex;
  gap: var(--s2);
  justify-content: space-between;
  border-bottom: 1px solid var(--rule);
  padding: 4px 0;
}
</style>
