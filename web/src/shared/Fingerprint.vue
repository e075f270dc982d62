<script setup lang="ts">
/** A fingerprint, short, with a way to copy the whole of it. */
import { useClipboard } from "@vueuse/core";

defineProps<{ value: string }>();
const { copy, copied } = useClipboard({ legacy: true }); // also without HTTPS
</script>

<template>
  <span v-if="!value" class="faded">not read yet</span>
  <button v-else type="button" class="print" :title="`Copy ${value}`" @click="copy(value)">
    <code>{{ value.slice(0, 8) }}</code><i :class="copied ? 'pi pi-check' : 'pi pi-copy'" aria-hidden="true" /><span
      class="visually-hidden"
      >{{ copied ? "copied" : "copy the whole fingerprint" }}</span
    >
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
.pi {
  font-size: 0.7em;
  margin-left: 4px;
  color: var(--faded);
}
</style>
