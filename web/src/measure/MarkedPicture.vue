<script setup lang="ts">
/** The window as it ended, with the elements that the metrics are about. */
import { computed } from "vue";
import type { Schemas } from "../api/client";

const props = defineProps<{ name: string; side: Schemas["SideMeasured"] }>();
const last = computed(() => [...props.side.film].reverse().find((f) => f.picture));
const l = computed(() => props.side.load);
const words: Record<string, string> = {
  "largest-contentful-paint": "largest paint",
  "layout-shift": "moved",
};
const marks = computed(() => {
  const { width, height } = l.value;
  if (!width || !height) return [];
  return (l.value.marked ?? []).map((m, i) => ({
    n: i + 1,
    of: m,
    style: {
      left: `${(100 * m.box[0]!) / width}%`,
      top: `${(100 * m.box[1]!) / height}%`,
      width: `${(100 * m.box[2]!) / width}%`,
      height: `${(100 * m.box[3]!) / height}%`,
    },
  }));
});
</script>

<template>
  <figure v-if="last">
    <div class="window">
      <img :src="`/api/v1/blobs/${last.picture}`" :alt="`The window as it ended, ${name}`" />
      <span v-for="m in marks" :key="m.n" class="mark" :class="m.of.metric" :style="m.style" aria-hidden="true"
        ><b>{{ m.n }}</b></span
      >
    </div>
    <figcaption class="small">
      {{ name }}
      <ol v-if="marks.length">
        <li v-for="m in marks" :key="m.n">
          <code>{{ m.of.name }}</code> {{ words[m.of.metric] }}
        </li>
      </ol>
    </figcaption>
  </figure>
</template>

<style scoped>
figure {
  margin: 0;
  max-width: 17rem;
}
.window {
  position: relative;
  overflow: hidden;
  border: 1px solid var(--rule-strong);
}
img {
  display: block;
  width: 100%;
}
.mark {
  position: absolute;
  border: 2px solid var(--deep);
}
.mark.layout-shift {
  border-style: dashed;
  border-color: var(--broken);
}
.mark b {
  position: absolute;
  top: 0;
  left: 0;
  font: 600 0.7rem var(--text);
  padding: 0 3px;
  color: var(--on-deep);
  background: var(--deep);
}
.mark.layout-shift b {
  background: var(--broken);
}
ol {
  margin: 2px 0 0;
  padding-left: 1.2rem;
  overflow-wrap: anywhere;
}
</style>
