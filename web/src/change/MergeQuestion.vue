<script setup lang="ts">
/** Two people edited the same change: what both set is asked for, nothing is lost. */
import Button from "primevue/button";
import Dialog from "primevue/dialog";
import { reactive } from "vue";
import type { Merge } from "./merge";
import { inWords } from "../shared/wording";

const props = defineProps<{ merge: Merge; who: string; titles: Record<string, string> }>();
const open = defineModel<boolean>({ required: true });
const emit = defineEmits<{ settled: [edits: Record<string, unknown>] }>();
const choice = reactive<Record<string, "theirs" | "yours">>({});
const shown = (v: unknown) => (v === undefined ? "as on production" : inWords(v));

function settle() {
  const edits = { ...props.merge.both };
  for (const q of props.merge.asked) {
    const v = choice[q.key] === "yours" ? q.yours : q.theirs;
    if (v === undefined) delete edits[q.key];
    else edits[q.key] = v;
  }
  emit("settled", edits);
  open.value = false;
}
</script>

<template>
  <Dialog
    v-model:visible="open"
    modal
    :closable="false"
    header="Two people edited this"
    :close-on-escape="false"
    :style="{ width: '38rem' }"
    :draggable="false"
  >
    <div class="stack">
      <p>{{ who }} edited this change at the same time. Edits that do not conflict were merged; these conflict:</p>
      <fieldset v-for="q in merge.asked" :key="q.key" class="asked">
        <legend>{{ titles[q.key] ?? q.key }}</legend>
        <label
          ><input v-model="choice[q.key]" type="radio" :name="q.key" value="theirs" /> {{ who }}’s:
          <code>{{ shown(q.theirs) }}</code></label
        >
        <label
          ><input v-model="choice[q.key]" type="radio" :name="q.key" value="yours" /> yours:
          <code>{{ shown(q.yours) }}</code></label
        >
      </fieldset>
      <Button label="Save these" :disabled="merge.asked.some((q) => !choice[q.key])" @click="settle" />
    </div>
  </Dialog>
</template>

<style scoped>
.asked {
  border: 0;
  border-left: 4px solid var(--unsure);
  padding: 0 0 0 var(--s3);
  display: flex;
  flex-direction: column;
  gap: var(--s1);
}
</style>
