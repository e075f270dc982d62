<script setup lang="ts">
/** The frame of a form that opens below what it is about: what it lacks, keeping it, putting it away. */
import Button from "primevue/button";
import { onMounted, useTemplateRef } from "vue";

defineProps<{
  label: string;
  /** What keeps it from being kept, in words; "" when nothing does. */
  lacks: string;
  busy?: boolean;
}>();
defineEmits<{ keep: []; away: [] }>();
const form = useTemplateRef("form");
// What it is about may be a long table, below which it is out of sight.
onMounted(() => {
  form.value?.scrollIntoView({ block: "nearest" });
  form.value?.querySelector("input")?.focus({ preventScroll: true });
});
</script>

<template>
  <form ref="form" class="frame stack" :aria-label="label" @submit.prevent="$emit('keep')">
    <slot />
    <div class="row">
      <Button type="submit" size="small" label="Save" :disabled="!!lacks" :loading="busy" />
      <Button size="small" text label="Cancel" @click="$emit('away')" />
      <span v-if="lacks" class="small faded">{{ lacks }}</span>
    </div>
  </form>
</template>

<style scoped>
.frame {
  background: var(--sheet);
  border: 1px solid var(--rule-strong);
  padding: var(--s3);
  margin: var(--s2) 0;
}
</style>
