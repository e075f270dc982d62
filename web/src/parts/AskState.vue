<script setup lang="ts">
/** What is shown while something is being read, or could not be. */
import Button from "primevue/button";

defineProps<{ pending: boolean; error: Error | null; what: string }>();
defineEmits<{ again: [] }>();
</script>

<template>
  <div v-if="error" class="sheet ask" role="alert">
    <h2>{{ what }} could not be read</h2>
    <p>{{ error.message }}</p>
    <Button label="Read again" size="small" @click="$emit('again')" />
  </div>
  <div v-else-if="pending" class="ask" aria-busy="true">
    <p class="faded">Reading {{ what.toLowerCase() }} …</p>
    <div class="line" style="width: 70%" />
    <div class="line" style="width: 45%" />
    <div class="line" style="width: 58%" />
  </div>
  <slot v-else />
</template>

<style scoped>
.ask {
  display: flex;
  flex-direction: column;
  gap: var(--s3);
  align-items: flex-start;
  margin: var(--s4) 0;
}
.line {
  height: 10px;
  background: var(--rule);
  opacity: 0.6;
}
</style>
