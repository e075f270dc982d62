<script setup lang="ts">
/** A secret that is shown once, to be copied now. */
import Button from "primevue/button";
import { ref } from "vue";

const props = defineProps<{ value: string; what: string }>();
const copied = ref(false);
async function copy() {
  await navigator.clipboard.writeText(props.value);
  copied.value = true;
}
</script>

<template>
  <div class="once" role="status">
    <p>{{ what }}</p>
    <div class="row">
      <code>{{ value }}</code>
      <Button size="small" outlined :label="copied ? 'Copied' : 'Copy'" @click="copy" />
    </div>
  </div>
</template>

<style scoped>
.once {
  border-left: 4px solid var(--clear);
  background: var(--clear-wash);
  padding: var(--s2) var(--s3);
}
code {
  overflow-wrap: anywhere;
  flex: 1;
  user-select: all;
}
</style>
