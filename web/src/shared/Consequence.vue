<script setup lang="ts">
/** Asks before something is done to a site, and says what it will do and what is lost. */
import Button from "primevue/button";
import Dialog from "primevue/dialog";
import Trouble from "./Trouble.vue";

defineProps<{
  title: string;
  does: string[];
  loses?: string;
  verb: string;
  busy?: boolean;
  /** Why it could not be done just now; said here, and not behind the dialog. */
  error?: Error | null;
}>();
const open = defineModel<boolean>({ required: true });
defineEmits<{ go: [] }>();
</script>

<template>
  <Dialog v-model:visible="open" modal :header="title" :style="{ width: '34rem' }" :draggable="false">
    <ol class="does">
      <li v-for="d in does" :key="d">{{ d }}</li>
    </ol>
    <p v-if="loses" class="callout unsure"><strong>What is lost:</strong> {{ loses }}</p>
    <Trouble :error="error" />
    <template #footer>
      <Button label="Cancel" text autofocus @click="open = false" />
      <Button :label="verb" :loading="busy" @click="$emit('go')" />
    </template>
  </Dialog>
</template>

<style scoped>
.does {
  margin: 0 0 var(--s3);
  padding-left: 1.3em;
}
.does li {
  margin-bottom: var(--s1);
}
</style>
