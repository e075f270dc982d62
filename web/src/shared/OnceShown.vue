<script setup lang="ts">
/** A secret that is shown once, to be copied now. */
import Button from "primevue/button";
import { useClipboard } from "@vueuse/core";

defineProps<{ value: string; what: string }>();
const { copy, copied } = useClipboard({ legacy: true, copiedDuring: 60_000 }); // also without HTTPS
</script>

<template>
  <div class="callout clear once" role="status">
    <p>{{ what }}</p>
    <div class="row">
      <code>{{ value }}</code>
      <Button size="small" outlined :label="copied ? 'Copied' : 'Copy'" @click="copy(value)" />
    </div>
  </div>
</template>

<style scoped>
code {
  overflow-wrap: anywhere;
  flex: 1;
  user-select: all;
}
</style>
