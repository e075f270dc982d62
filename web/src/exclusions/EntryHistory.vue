<script setup lang="ts">
/** What happened to one entry of the ledger. */
import { useEntryHistory } from "./queries";
import AskState from "../shared/AskState.vue";
import When from "../shared/When.vue";

const props = defineProps<{ site: number; entry: number }>();
const { data, isPending, error, refetch } = useEntryHistory(
  () => props.site,
  () => props.entry,
);
</script>

<template>
  <AskState :pending="isPending" :error="error" what="The entry’s history" @again="refetch()">
    <ul class="plain-list small">
      <li v-for="(e, i) in data" :key="i"><When :at="e.at" />, {{ e.who }}: {{ e.text }}</li>
      <li v-if="data && !data.length" class="faded">No earlier entries.</li>
    </ul>
  </AskState>
</template>
