<script setup lang="ts">
/** What went wrong with something that was just asked for. */
defineProps<{ error: Error | null | undefined }>();
</script>

<template>
  <p v-if="error" class="trouble" role="alert">{{ error.message }}</p>
</template>

<style scoped>
.trouble {
  border-left: 4px solid var(--broken);
  background: var(--broken-wash);
  padding: var(--s2) var(--s3);
}
</style>
