<script setup lang="ts">
/** What can be done with one row of a table: whatever else there is, editing it, leaving it out. */
import Button from "primevue/button";

defineProps<{ name: string; keeps?: boolean }>();
defineEmits<{ edit: []; leave: [] }>();
</script>

<template>
  <div class="row acts">
    <slot />
    <Button size="small" text label="Edit" :aria-label="`Edit ${name}`" @click="$emit('edit')" />
    <Button
      v-if="!keeps"
      size="small"
      text
      label="Leave out"
      :aria-label="`Leave out ${name}`"
      @click="$emit('leave')"
    />
  </div>
</template>

<style scoped>
.acts {
  gap: var(--s1);
  flex-wrap: nowrap;
}
</style>
