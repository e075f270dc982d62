<script setup lang="ts">
/** Which findings are listed. Shown where there are too many to read. */
import { count, counted } from "../shared/wording";
import InputText from "primevue/inputtext";
import { kindNames } from "./findings";
import type { FindingFilter } from "./filter";

const props = defineProps<{ filter: FindingFilter; all: number; shown: number }>();
const { q, severity, kind, state, kinds, severities } = props.filter;
</script>

<template>
  <form class="filter small" aria-label="Which findings" @submit.prevent>
    <InputText v-model="q" size="small" placeholder="Title or page" aria-label="Part of a finding's title or page" />
    <select v-model="severity" aria-label="Severity">
      <option value="">all severities</option>
      <option v-for="s in severities" :key="s" :value="s">{{ s }}</option>
    </select>
    <select v-model="kind" aria-label="Kind of finding">
      <option value="">all kinds</option>
      <option v-for="k in kinds" :key="k" :value="k">{{ kindNames[k] ?? k }}</option>
    </select>
    <select v-model="state" aria-label="State">
      <option value="">open and accepted</option>
      <option value="open">open</option>
      <option value="accepted">accepted</option>
    </select>
    <span class="faded" role="status">{{
      shown === all ? counted(all, "finding") : `${count(shown)} of ${counted(all, "finding")}`
    }}</span>
  </form>
</template>

<style scoped>
.filter {
  display: flex;
  flex-wrap: wrap;
  gap: 4px;
  align-items: center;
  margin-bottom: var(--s2);
}
.filter :deep(input) {
  flex: 1 1 9rem;
}
@media print {
  .filter {
    display: none;
  }
}
</style>
