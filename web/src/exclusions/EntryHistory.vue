<script setup lang="ts">
/** What happened to one entry of the ledger. */
import { useEntryHistory } from "./queries";
import When from "../shared/When.vue";

const props = defineProps<{ site: number; entry: number }>();
const { data } = useEntryHistory(
  () => props.site,
  () => props.entry,
);
</script>

<template>
  <ul class="plain-list small">
    <li v-for="(e, i) in data" :key="i"><When :at="e.at" />, {{ e.who }}: {{ e.text }}</li>
    <li v-if="data && !data.length" class="faded">No earlier entries.</li>
  </ul>
</template>
