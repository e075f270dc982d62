<script setup lang="ts">
/** The end of a list of which only the beginning is drawn: how many more there are, and a way to them. */
import { count } from "./wording";
defineProps<{ of: number; what: string }>();
const shown = defineModel<number>({ required: true });
const step = 50;
</script>

<template>
  <p v-if="of > shown" class="small">
    {{ shown }} of {{ count(of) }} {{ what }} are listed.
    <button type="button" class="as-link" @click="shown += step">Show {{ Math.min(step, of - shown) }} more</button>
  </p>
</template>
