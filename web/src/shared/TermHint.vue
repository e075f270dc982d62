<script setup lang="ts">
/** A word, explained where it stands: a short text at a click, and the page of all words behind it. */
import Popover from "primevue/popover";
import { useTemplateRef } from "vue";
import { words, type WordKey } from "./words";

const { of } = defineProps<{ of: WordKey }>();
const panel = useTemplateRef<InstanceType<typeof Popover>>("panel");
</script>

<template>
  <button
    type="button"
    class="term"
    :title="`What ${words[of].word} means`"
    aria-haspopup="dialog"
    @click="panel?.toggle($event)"
  >
    <slot>{{ words[of].word }}</slot>
  </button>
  <Popover ref="panel" :aria-label="words[of].word">
    <p class="means">
      <b>{{ words[of].word }}</b>: {{ words[of].means }}
      <RouterLink :to="`/words#${of.replace(' ', '-')}`">All words</RouterLink>
    </p>
  </Popover>
</template>

<style scoped>
.term {
  font: inherit;
  color: inherit;
  padding: 0;
  background: none;
  border: 0;
  border-bottom: 1px dotted var(--rule-strong);
  cursor: help;
}
.term:hover {
  border-bottom-color: currentColor;
}
.means {
  max-width: 22rem;
}
</style>
