<script setup lang="ts">
/** Named sets of values for a change: what one would make of it is shown before it is taken. */
import Button from "primevue/button";
import Dialog from "primevue/dialog";
import { computed, ref } from "vue";
import { useBundleActs, useBundles, usePreview, type Change } from "./queries";
import { riskWords, soundings } from "./risk";
import AskState from "../shared/AskState.vue";
import DifferenceTable from "../shared/DifferenceTable.vue";
import Trouble from "../shared/Trouble.vue";
import RiskGlance from "./RiskGlance.vue";
import TermHint from "../shared/TermHint.vue";

const props = defineProps<{
  change: Change;
  /** Waits until what was edited is saved; false when it is not. */
  saved: () => Promise<boolean>;
}>();
const emit = defineEmits<{ taken: [before: Change["edits"], after: Change["edits"]] }>();
const { data: bundles } = useBundles();
const { apply } = useBundleActs();
/** The risks of what would be in use with a bundle, the deepest first. */
const depths = (name: string) => soundings(props.change.risk.bundles.find((b) => b.name === name)?.after ?? []);
const bold = (name: string) => depths(name).filter((d) => d === 3).length;
const chosen = ref("");
const open = computed({ get: () => chosen.value !== "", set: (v) => !v && (chosen.value = "") });
const preview = usePreview(() => props.change.id, chosen);

async function take(name: string) {
  if (!(await props.saved())) return; // why not stands beside the settings
  const before = props.change.edits;
  const now = await apply.mutateAsync({ change: props.change.id, name, version: props.change.version });
  emit("taken", before, now.edits);
  chosen.value = "";
}
</script>

<template>
  <section>
    <div class="row bundles" role="group" aria-label="Bundles">
      <span class="small"><TermHint of="bundle">Bundles</TermHint>, from cautious to bold:</span>
      <Button v-for="b in bundles" :key="b.name" outlined size="small" :title="b.summary" @click="chosen = b.name">
        <span>{{ b.name }}</span>
        <svg
          v-if="depths(b.name).length"
          :viewBox="`0 0 ${depths(b.name).length * 3 + 1} 10`"
          class="depths"
          aria-hidden="true"
        >
          <line
            v-for="(d, n) in depths(b.name)"
            :key="n"
            :x1="n * 3 + 1"
            :x2="n * 3 + 1"
            y1="0"
            :y2="d * 3.3"
            :stroke="d === 3 ? 'var(--broken)' : 'var(--unsure)'"
            :stroke-width="d === 1 ? 1 : 2"
          />
        </svg>
        <span v-if="bold(b.name)" class="visually-hidden">, {{ bold(b.name) }} of what {{ riskWords[3] }}</span>
      </Button>
    </div>
    <p v-if="change.bundle" class="small">
      It equals bundle <b>{{ change.bundle }}</b>.
      <Button
        v-if="change.stepDown"
        text
        size="small"
        :label="`Step down to ${change.stepDown}`"
        :loading="apply.isPending.value"
        @click="take(change.stepDown)"
      />
    </p>
    <Trouble v-if="!open" :error="apply.error.value" />
    <Dialog v-model:visible="open" modal :header="chosen" :style="{ width: '46rem' }" :draggable="false">
      <AskState
        :pending="preview.isPending.value"
        :error="preview.error.value"
        what="The bundle"
        @again="preview.refetch()"
      >
        <div v-if="preview.data.value" class="stack">
          <p>{{ bundles?.find((b) => b.name === chosen)?.summary }}</p>
          <RiskGlance :risk="{ before: change.risk.after, after: preview.data.value.risk, bundles: [] }" />
          <DifferenceTable :differences="preview.data.value.differences" before="The change now" after="With it" />
          <template v-if="preview.data.value.unmet.length">
            <h3>What this site does not have</h3>
            <ul class="small">
              <li v-for="u in preview.data.value.unmet" :key="u.role + u.why">{{ u.why }} ({{ u.role }})</li>
            </ul>
          </template>
          <Trouble :error="apply.error.value" />
          <Button
            label="Add it to the change"
            :disabled="!preview.data.value.differences.length"
            :loading="apply.isPending.value"
            @click="take(chosen)"
          />
        </div>
      </AskState>
    </Dialog>
  </section>
</template>

<style scoped>
.bundles {
  gap: 4px var(--s2);
  margin-bottom: var(--s2);
}
.depths {
  height: 10px;
  margin-left: 6px;
}
</style>
