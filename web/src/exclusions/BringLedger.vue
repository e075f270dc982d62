<script setup lang="ts">
/** Reads entries of a ledger from a file; faults are told line by line. */
import Button from "primevue/button";
import { ref } from "vue";
import { useExclusionActs } from "./queries";
import Trouble from "../shared/Trouble.vue";

const props = defineProps<{ site: number }>();
const acts = useExclusionActs(() => props.site);
const text = ref("");
const format = ref<"csv" | "json">("csv");

async function take(e: Event) {
  const file = (e.target as HTMLInputElement).files?.[0];
  if (!file) return;
  format.value = file.name.endsWith(".json") ? "json" : "csv";
  text.value = await file.text();
}
</script>

<template>
  <form class="stack" @submit.prevent="acts.bring.mutate({ format, text })">
    <p class="small faded">
      A CSV file with a header row (role or key, pattern, reason; optionally environments, classes, personas,
      lookAgain), or JSON as exported here. All of it is imported, or nothing.
    </p>
    <div class="row">
      <input
        type="file"
        accept=".csv,.json,text/csv,application/json"
        aria-label="A file with exclusions"
        @change="take"
      />
      <Button
        type="submit"
        size="small"
        outlined
        label="Import"
        :disabled="!text"
        :loading="acts.bring.isPending.value"
      />
    </div>
    <Trouble :error="acts.bring.error.value" />
    <p v-if="acts.bring.data.value" role="status">
      {{ acts.bring.data.value.added }} entries were added, {{ acts.bring.data.value.passed }} were there already.
    </p>
  </form>
</template>
