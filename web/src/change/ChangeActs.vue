<script setup lang="ts">
/** What may be done with a change now, the next step first, each with what it does and why it is not allowed. */
import Button from "primevue/button";
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useChangeActs, type Change, type ChangeAct } from "./queries";
import Consequence from "../shared/Consequence.vue";
import RollBackDialog from "./RollBackDialog.vue";
import Trouble from "../shared/Trouble.vue";
import { useShortcuts } from "../shared/shortcuts";

const props = defineProps<{
  change: Change;
  /** Waits until what was edited is saved; false when it is not. */
  saved?: () => Promise<boolean>;
  /** Beside something else: only what can be done now, in a row. */
  brief?: boolean;
}>();
const acts = useChangeActs();
const router = useRouter();

type Asked = ChangeAct | "rollback";
const labels: Record<string, { act: Asked; label: string }> = {
  try: { act: "try", label: "Try it on staging" },
  promote: { act: "promote", label: "Promote it" },
  tidy: { act: "tidy", label: "Also delete it on production" },
  accept: { act: "accept", label: "Accept as it is" },
  "roll back": { act: "rollback", label: "Roll back" },
  "roll back all": { act: "rollback", label: "Roll back" },
  rebase: { act: "rebase", label: "Rebase on production" },
  discard: { act: "discard", label: "Discard" },
};
const shown = computed(() =>
  props.change.choices
    .filter((c) => labels[c.event])
    // With others on top there is one way to roll back, and the dialog asks which.
    .filter((c) => c.event !== "roll back" || !props.change.choices.some((x) => x.event === "roll back all"))
    .map((c) => ({ ...c, ...labels[c.event]! }))
    .filter((c) => !props.brief || (c.allowed && ["try", "promote", "accept", "rollback"].includes(c.act)))
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
          "Cached pages are purged and the pages of the test plan warmed; the first visitors to other pages wait a little longer.",
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
            ? "The change counts as rolled back although its check left something for a person to judge. Your name is recorded."
            : "A mark is taken although the check left something for a person to judge. Your name is recorded.",
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
  unsaved.value = !!props.saved && !(await props.saved());
  if (unsaved.value) return;
  await opened(await acts.act.mutateAsync({ id: props.change.id, act }));
}

function begin(act: Asked) {
  if (act === "try" || act === "rebase") void go(act);
  else asked.value = act;
}
const first = (act: Asked) => shown.value.find((c) => c.act === act && c.allowed);
useShortcuts((key) => {
  const act = ({ t: "try", p: "promote", b: "rollback" } as const)[key];
  return !!act && !!first(act) && (() => begin(act));
});
</script>

<template>
  <div :class="brief ? 'row' : 'stack'">
    <Trouble :error="asking ? undefined : acts.act.error.value" />
    <p v-if="unsaved" role="alert" class="small">
      Your last edit is not saved, so nothing was started. See why beside the settings.
    </p>
    <div v-for="c in shown" :key="c.event" class="choice">
      <Button
        :label="c.act === 'try' && change.runs.length ? 'Try it again' : c.label"
        :outlined="!c.next"
        :disabled="!c.allowed"
        :loading="acts.act.isPending.value && acts.act.variables.value?.act === c.act"
        :size="c.next && !brief ? undefined : 'small'"
        @click="begin(c.act)"
      />
      <p v-if="!c.allowed" class="small faded">{{ c.why }}</p>
      <slot :event="c.event" />
    </div>
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
  </div>
</template>

<style scoped>
.choice {
  display: flex;
  flex-direction: column;
  gap: 3px;
  align-items: stretch;
}
</style>
