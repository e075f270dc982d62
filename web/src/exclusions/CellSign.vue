<script setup lang="ts">
/** One cell's sign: land where nothing is cached, water where it is, a breach where it should not be. */
import { computed } from "vue";
import { signOf } from "./cells";
import type { Cell } from "./queries";

const props = defineProps<{ cell: Pick<Cell, "policy" | "trouble" | "text"> }>();
const s = computed(() => signOf(props.cell));
</script>

<template>
  <svg viewBox="0 0 30 18" width="30" height="18" aria-hidden="true" :class="s.sign">
    <template v-if="s.sign === 'dry'">
      <path d="M3 14h24" stroke="currentColor" stroke-width="1.6" />
      <path d="M6 14l2-3M13 14l2-3M20 14l2-3" stroke="currentColor" stroke-width="1" fill="none" />
    </template>
    <path
      v-else-if="s.sign === 'flooded'"
      d="M3 7c4-3 8-3 12 0s8 3 12 0M3 13c4-3 8-3 12 0s8 3 12 0"
      fill="none"
      stroke="currentColor"
      stroke-width="1.4"
    />
    <template v-else-if="s.sign === 'pool'">
      <ellipse cx="15" cy="10" rx="10" ry="5.5" fill="none" stroke="currentColor" stroke-width="1.4" />
      <path d="M9 10c2-1.600 4-1.600 6 0s4 1.600 6 0" fill="none" stroke="currentColor" stroke-width="1.2" />
    </template>
    <template v-else-if="s.sign === 'idle'">
      <path d="M3 14h24" stroke="currentColor" stroke-width="1.6" stroke-dasharray="3 3" />
      <path d="M9 7c2-2 4-2 6 0s4 2 6 0" fill="none" stroke="currentColor" stroke-width="1.2" />
    </template>
    <template v-else>
      <path
        d="M2 16 15 1l13 15Z"
        :fill="s.sign === 'breach' ? 'currentColor' : 'none'"
        stroke="currentColor"
        stroke-width="1.8"
      />
      <path
        d="M8 12c2.300-1.800 4.700-1.800 7 0s4.700 1.800 7 0"
        fill="none"
        :stroke="s.sign === 'breach' ? 'var(--paper)' : 'currentColor'"
        stroke-width="1.6"
      />
    </template>
  </svg>
</template>

<style scoped>
svg {
  color: var(--faded);
  vertical-align: middle;
}
.flooded,
.pool {
  color: var(--deep);
}
.breach,
.gap {
  color: var(--broken);
}
.idle {
  color: var(--unsure);
}
</style>
