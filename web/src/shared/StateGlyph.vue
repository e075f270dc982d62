<script setup lang="ts">
/** How something stands, by shape and word; colour only repeats it. */
import { computed } from "vue";

const props = defineProps<{ state: string; word?: string; bare?: boolean }>();

type Shape = "disc" | "wedge" | "half" | "ring" | "wave";
const shapes: Record<string, { shape: Shape; tone: string }> = {
  clear: { shape: "disc", tone: "clear" },
  marked: { shape: "disc", tone: "clear" },
  settled: { shape: "disc", tone: "clear" },
  "waits for a person": { shape: "half", tone: "unsure" },
  ended: { shape: "ring", tone: "blind" },
  "taken over": { shape: "ring", tone: "blind" },
  broken: { shape: "wedge", tone: "broken" },
  unsure: { shape: "half", tone: "unsure" },
  promoted: { shape: "half", tone: "unsure" },
  restored: { shape: "half", tone: "unsure" },
  unknown: { shape: "ring", tone: "broken" },
  "not checked": { shape: "ring", tone: "blind" },
  stopped: { shape: "ring", tone: "blind" },
  failed: { shape: "ring", tone: "blind" },
  note: { shape: "ring", tone: "blind" },
  culprit: { shape: "wedge", tone: "broken" },
  together: { shape: "wedge", tone: "broken" },
  fails: { shape: "wedge", tone: "broken" },
  suspected: { shape: "half", tone: "unsure" },
  innocent: { shape: "disc", tone: "clear" },
  passes: { shape: "disc", tone: "clear" },
  undecided: { shape: "ring", tone: "blind" },
  right: { shape: "disc", tone: "clear" },
  wrong: { shape: "wedge", tone: "broken" },
  missed: { shape: "half", tone: "unsure" },
  "not seen": { shape: "ring", tone: "blind" },
  accepted: { shape: "ring", tone: "clear" },
};
const look = computed(() => shapes[props.state] ?? { shape: "wave" as Shape, tone: "deep" });
</script>

<template>
  <span class="glyph" :class="look.tone">
    <svg viewBox="0 0 16 16" width="15" height="15" aria-hidden="true">
      <circle v-if="look.shape === 'disc'" cx="8" cy="8" r="6" fill="currentColor" />
      <path v-else-if="look.shape === 'wedge'" d="M8 1.2 15 14H1Z" fill="currentColor" />
      <template v-else-if="look.shape === 'half'">
        <circle cx="8" cy="8" r="6" fill="none" stroke="currentColor" stroke-width="1.6" />
        <path d="M8 2a6 6 0 0 1 0 12Z" fill="currentColor" />
      </template>
      <circle
        v-else-if="look.shape === 'ring'"
        cx="8"
        cy="8"
        r="5.6"
        fill="none"
        stroke="currentColor"
        stroke-width="1.8"
        stroke-dasharray="2.6 2"
      />
      <path v-else d="M1 9c2.3-4 4.7-4 7 0s4.700 4 7 0" fill="none" stroke="currentColor" stroke-width="2" />
    </svg>
    <span :class="{ 'visually-hidden': bare }">{{ word ?? state }}</span>
  </span>
</template>

<style scoped>
.glyph {
  display: inline-flex;
  vertical-align: text-bottom;
  align-items: center;
  gap: 5px;
  font-weight: 600;
  white-space: nowrap;
}
svg {
  flex: none;
}
.clear {
  color: var(--clear);
}
.broken {
  color: var(--broken);
}
.unsure {
  color: var(--unsure);
}
.blind {
  color: var(--blind);
}
.deep {
  color: var(--deep);
}
</style>
