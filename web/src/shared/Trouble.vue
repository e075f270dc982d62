<script setup lang="ts">
/** What went wrong with something that was just asked for. */
defineProps<{ error: Error | null | undefined }>();
</script>

<template>
  <p v-if="error" class="callout broken trouble" role="alert">{{ error.message }}</p>
</template>
