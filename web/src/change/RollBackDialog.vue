<script setup lang="ts">
/** Where rolling a change back goes, what goes with it, and the choice when others were promoted on top. */
import Button from "primevue/button";
import Dialog from "primevue/dialog";
import { computed, ref } from "vue";
import { useRollBackPlan, type Change } from "./queries";
import AskState from "../shared/AskState.vue";
import DifferenceTable from "../shared/DifferenceTable.vue";
import Fingerprint from "../shared/Fingerprint.vue";
import Trouble from "../shared/Trouble.vue";

const props = defineProps<{ change: Change; busy: boolean; error: Error | null }>();
const open = defineModel<boolean>({ required: true });
const emit = defineEmits<{ go: [all: boolean]; takeOut: [restore: Record<string, boolean>] }>();
const { data: plan, isPending, error, refetch } = useRollBackPlan(() => props.change.id);

const how = ref<"all" | "one">("one");
const restore = ref<Record<string, "before" | "now">>({});
const onTop = computed(() => plan.value?.onTop ?? []);
const takesOut = computed(() => onTop.value.length > 0 && how.value === "one");
const undecided = computed(() => (plan.value?.conflicts ?? []).filter((c) => !restore.value[c.key]));
const titles = computed(() => onTop.value.map((c) => `“${c.title}”`).join(", "));

function go() {
  if (takesOut.value)
    emit("takeOut", Object.fromEntries(Object.entries(restore.value).map(([key, v]) => [key, v === "before"])));
  else emit("go", onTop.value.length > 0);
}
</script>

<template>
  <Dialog v-model:visible="open" modal header="Roll back" :style="{ width: '42rem' }" :draggable="false">
    <AskState :pending="isPending" :error="error" what="Where it goes back to" @again="refetch()">
      <div v-if="plan" class="stack">
        <fieldset v-if="onTop.length" class="stack">
          <legend>
            {{ onTop.length === 1 ? "Another change was" : `${onTop.length} other changes were` }} promoted on top of
            it:
            {{ titles }}
          </legend>
          <label
            ><input v-model="how" type="radio" value="one" name="how" /> Take out just this one’s edits: a new change,
            tried on {{ change.staging }} and promoted as any other</label
          >
          <label
            ><input v-model="how" type="radio" value="all" name="how" /> Go back to before all of them: {{ titles }}
            {{ onTop.length === 1 ? "goes" : "go" }}, too</label
          >
        </fieldset>
        <template v-if="takesOut">
          <DifferenceTable :differences="plan.takesOut" before="Now" after="Without it" />
          <fieldset v-for="c in plan.conflicts" :key="c.key" class="stack">
            <legend>{{ c.title || c.key }} was set again since</legend>
            <label
              ><input v-model="restore[c.key]" type="radio" value="now" :name="c.key" /> Leave it as it is:
              {{ c.now }}</label
            >
            <label
              ><input v-model="restore[c.key]" type="radio" value="before" :name="c.key" /> As before this change:
              {{ c.before }}</label
            >
          </fieldset>
        </template>
        <template v-else>
          <div v-for="b in plan.backs" :key="b.environment" class="back">
            <p>
              <strong>{{ b.environment }}</strong> goes back to <Fingerprint :value="b.to" />, what it had before this
              change came; compared with mark {{ b.mark }}{{ b.exact ? " of exactly these settings" : ", its latest" }}.
            </p>
            <DifferenceTable :differences="b.differences" before="Now" after="Then" />
          </div>
          <p v-if="!plan.backs.length">
            Neither environment has it any more. {{ change.staging }} is checked once more.
          </p>
          <p class="small">
            The settings are read back, the page cache is purged, and the pages of the test plan are warmed up and
            compared with the mark. It is done only when that is clear.
          </p>
          <p v-if="plan.other" class="callout unsure">
            What was changed outside since then is no longer in force either.
          </p>
        </template>
        <Trouble :error="props.error" />
      </div>
    </AskState>
    <template #footer>
      <Button label="Cancel" text autofocus @click="open = false" />
      <Button
        :label="takesOut ? 'Start that change' : 'Roll back'"
        :disabled="!plan || (takesOut && undecided.length > 0)"
        :loading="busy"
        @click="go"
      />
    </template>
  </Dialog>
</template>

<style scoped>
fieldset {
  border: 1px solid var(--rule-strong);
  padding: var(--s2) var(--s3) var(--s3);
  gap: var(--s1);
}
legend {
  font-family: var(--chart);
  font-style: italic;
}
.back {
  border-left: 4px solid var(--deep);
  padding-left: var(--s3);
}
</style>
