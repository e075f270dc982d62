<script setup lang="ts">
/** The rulers as a list, where there is no room to draw them. */
import StateGlyph from "../shared/StateGlyph.vue";
import { short } from "../shared/wording";
import type { Environment } from "./queries";
import { word, type Sounding } from "./rulers";

defineProps<{ points: Sounding[]; environments: Environment[] }>();
</script>

<template>
  <ol class="plain-list" aria-label="What happened, the latest first">
    <li v-for="s in [...points].reverse()" :key="s.key">
      <StateGlyph :state="s.verdict" bare />
      <RouterLink v-if="s.run" :to="`/runs/${s.run}`">{{ word[s.kind] }}</RouterLink><span v-else>{{
        word[s.kind]
      }}</span>
      <span class="small faded">{{ environments[s.env]!.name }} · {{ short(s.at) }}</span>
    </li>
  </ol>
</template>

<style scoped>
li {
  display: flex;
  flex-wrap: wrap;
  gap: var(--s2);
  padding: 6px 0;
  border-bottom: 1px solid var(--rule);
}
</style>
