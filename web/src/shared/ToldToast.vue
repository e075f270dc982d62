<script setup lang="ts">
/** What was done, told at the edge of the window, with its undo. */
import Button from "primevue/button";
import Toast, { type ToastMessageOptions } from "primevue/toast";
import { useToast } from "primevue/usetoast";

const toast = useToast();
async function undo(message: ToastMessageOptions) {
  toast.remove(message);
  try {
    await (message.detail as () => unknown)();
  } catch (e) {
    toast.add({ severity: "secondary", summary: `Not undone: ${(e as Error).message}` }); // stays until it is closed
  }
}
</script>

<template>
  <Toast position="bottom-left" :pt="{ root: { role: 'region', 'aria-label': 'What was done' } }">
    <template #message="{ message }">
      <p class="told">
        {{ message.summary }}
        <Button v-if="message.detail" size="small" outlined label="Undo" @click="undo(message)" />
      </p>
    </template>
  </Toast>
</template>

<style scoped>
.told {
  display: flex;
  gap: var(--s3);
  align-items: center;
  margin: 0;
}
</style>
