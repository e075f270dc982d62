<script setup lang="ts">
/** The way of a change: where it stands, the next step, and why a step is not allowed yet. */
import Button from "primevue/button";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useChangeActs, type Change, type ChangeAct } from "./queries";
import { useSession } from "../api/session";
import ApprovalPane from "./ApprovalPane.vue";
import CommentList from "../shared/CommentList.vue";
import Consequence from "../shared/Consequence.vue";
import ExpectPane from "./ExpectPane.vue";
import MeasureForm from "./MeasureForm.vue";
import RollBackDialog from "./RollBackDialog.vue";
import StateGlyph from "../shared/StateGlyph.vue";
import Trouble from "../shared/Trouble.vue";
import WatchPane from "./WatchPane.vue";
import When from "../shared/When.vue";

const props = defineProps<{
  change: Change;
  /** Waits until what was edited is saved; false when it is not. */
  saved: () => Promise<boolean>;
}>();
const acts = useChangeActs();
const router = useRouter();

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

type Asked = ChangeAct | "rollback";
const labels: Record<string, { act: Asked; label: string }> = {
  try: { act: "try", label: `Try it on staging` },
  promote: { act: "promote", label: "Promote it" },
  tidy: { act: "tidy", label: "Delete it on production, too" },
  accept: { act: "accept", label: "Accept as it is" },
  "roll back": { act: "rollback", label: "Roll back" },
  "roll back all": { act: "rollback", label: "Roll back" },
  rebase: { act: "rebase", label: "Begin again from production" },
  discard: { act: "discard", label: "Discard" },
};
const shown = computed(() =>
  props.change.choices
    .filter((c) => labels[c.event])
    // With others on top there is one way to roll back, and the dialog asks which.
    .filter((c) => c.event !== "roll back" || !props.change.choices.some((x) => x.event === "roll back all"))
    .map((c) => ({ ...c, ...labels[c.event]! }))
    .sort((a, b) => Number(b.next) - Number(a.next)),
);

// A notice elsewhere may have asked for going back already.
const wanted = useRoute().query.ask === "rollback" ? "rollback" : undefined;
const asked = ref<Asked | undefined>(shown.value.some((c) => c.act === wanted && c.allowed) ? wanted : undefined);
const asking = computed({
  get: () => asked.value !== undefined && asked.value !== "rollback",
  set: (v) => !v && (asked.value = undefined),
});
const consequence = computed(() => {
  const c = props.change;
  const differs = c.differences.map((d) => `${d.title}: ${d.fromText} → ${d.toText}`).join("; ");
  const look = "All pages and journeys are looked at and compared with its mark.";
  switch (asked.value) {
    case "promote":
      return {
        title: `Promote to ${c.production}`,
        verb: "Promote",
        does: [
          `${c.production} gets exactly the settings that were checked, ${c.fingerprint.slice(0, 8)}: ${differs}.`,
          "Visitors see them from that moment on.",
          "Cached pages are purged and the pages of the test plan warmed; the first visitors of other pages wait a little longer.",
          look,
          "When that is clear, a mark is taken. Until then you can roll back in one step.",
        ],
      };
    case "tidy":
      return {
        title: `Delete it on ${c.production}`,
        verb: "Delete it",
        does: [
          `${c.production} gets exactly the settings that were checked, ${c.fingerprint.slice(0, 8)}: ${differs}.`,
          ...c.consequences.filter((q) => q.kind === "irreversible").map((q) => q.text),
          look,
        ],
        loses: "the records that are deleted. No rollback brings them back; only the backup does.",
      };
    case "discard":
      return {
        title: "Discard the change",
        verb: "Discard",
        does: ["The change can no longer be edited or tried."],
        loses: "nothing: it stays in the history.",
      };
    case "accept":
      return {
        title: `Accept ${c.state === "restored" ? "the rollback" : c.production} as it is`,
        verb: "Accept",
        does: [
          c.state === "restored"
            ? "The change is rolled back although the check of that left something for a person to judge. Your name stands beside it."
            : "A mark is taken although the check left something for a person to judge. Your name stands beside it.",
        ],
      };
    default:
      return undefined;
  }
});

const rollingBack = computed({ get: () => asked.value === "rollback", set: (v) => !v && (asked.value = undefined) });
async function rollBack(all: boolean) {
  await opened(await acts.rollBack.mutateAsync({ id: props.change.id, all }));
}
async function takeOut(restore: Record<string, boolean>) {
  const c = await acts.takeOut.mutateAsync({ id: props.change.id, restore });
  asked.value = undefined;
  await router.push(`/changes/${c.id}`);
}
async function opened(c: Change) {
  asked.value = undefined;
  const open = c.runs.find((r) => !r.finishedAt && r.state !== "waiting");
  if (open) await router.push(`/runs/${open.id}`);
}
const unsaved = ref(false);
async function go(act: ChangeAct) {
  unsaved.value = !(await props.saved());
  if (unsaved.value) return;
  await opened(await acts.act.mutateAsync({ id: props.change.id, act }));
}
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
    <Trouble :error="asking ? undefined : acts.act.error.value" />
    <p v-if="unsaved" role="alert" class="small">
      What was edited last is not saved, and nothing was begun. See why beside the settings.
    </p>
    <div v-for="c in shown" :key="c.event" class="choice">
      <Button
        :label="c.label"
        :outlined="!c.next"
        :disabled="!c.allowed"
        :loading="acts.act.isPending.value && acts.act.variables.value?.act === c.act"
        :size="c.next ? undefined : 'small'"
        @click="c.act === 'try' || c.act === 'rebase' ? go(c.act as ChangeAct) : (asked = c.act)"
      />
      <p v-if="!c.allowed" class="small faded">{{ c.why }}</p>
      <ApprovalPane v-if="c.event === 'promote' || c.event === 'tidy'" :change="change" class="approval" />
    </div>
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
    <RollBackDialog
      v-if="rollingBack"
      v-model="rollingBack"
      :change="change"
      :busy="acts.rollBack.isPending.value || acts.takeOut.isPending.value"
      :error="acts.rollBack.error.value ?? acts.takeOut.error.value"
      @go="rollBack"
      @take-out="takeOut"
    />
    <Consequence
      v-if="consequence"
      v-model="asking"
      v-bind="consequence"
      :busy="acts.act.isPending.value"
      :error="acts.act.error.value"
      @go="go(asked as ChangeAct)"
    />
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
.choice {
  display: flex;
  flex-direction: column;
  gap: 3px;
  align-items: stretch;
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
