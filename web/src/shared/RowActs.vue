<script setup lang="ts">
/** Actions with one row of a table: whatever else there is, editing it, leaving it out. */
import Button from "primevue/button";
import { useAsking } from "./asking";

const props = defineProps<{
  name: string;
  keeps?: boolean;
  /** It can be undone, so nobody is asked. */
  undoable?: boolean;
}>();
const emit = defineEmits<{ edit: []; leave: [] }>();
const ask = useAsking();
function leave() {
  if (props.undoable) return emit("leave");
  ask({
    title: `Remove ${props.name} from the test plan?`,
    says: "Checks no longer look at it. Marks that were taken with it keep what they saw. Secrets that were filled in for it are lost.",
    verb: "Remove",
    go: () => emit("leave"),
  });
}
</script>

<template>
  <div class="row acts">
    <slot />
    <Button size="small" text label="Edit" :aria-label="`Edit ${name}`" @click="$emit('edit')" />
    <Button v-if="!keeps" size="small" text label="Remove" :aria-label="`Remove ${name}`" @click="leave" />
  </div>
</template>

<style scoped>
.acts {
  gap: var(--s1);
  flex-wrap: nowrap;
}
</style>
