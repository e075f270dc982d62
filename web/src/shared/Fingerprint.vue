<script setup lang="ts">
/** A fingerprint, short, with a way to copy the whole of it. */
import { useClipboard } from "@vueuse/core";

defineProps<{ value: string }>();
const { copy, copied } = useClipboard({ legacy: true }); // also without HTTPS
</script>

<template>
  <span v-if="!value" class="faded">not read yet</span>
  <button v-else type="button" class="print" :title="`Copy ${value}`" @click="copy(value)">
    <code>{{ value.slice(0, 8) }}</code><svg viewBox="0 0 12 12" width="11" height="11" aria-hidden="true">
      <path v-if="copied" d="M2 6.500 5 9.500 10.500 3" />
      <path v-else d="M4 3.500V1.500H10.500V8H8.500M1.500 3.500H8V10.500H1.500Z" /></svg
    ><span class="visually-hidden">{{ copied ? "copied" : "copy the whole fingerprint" }}</span>
  </button>
</template>

<style scoped>
.print {
  border: 0;
  padding: 0 2px;
  background: none;
  color: inherit;
  font: inherit;
  cursor: pointer;
  border-bottom: 1px dotted var(--rule-strong);
}
svg {
  margin-left: 4px;
  fill: none;
  stroke: var(--faded);
  stroke-width: 1.2;
}
</style>
