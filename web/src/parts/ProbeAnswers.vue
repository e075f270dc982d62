<script setup lang="ts">
/** The answers that a page cache confused, one beside the other. */
import { computed } from "vue";
import type { Schemas } from "../api/client";

const props = defineProps<{ probe: Schemas["Probe"] }>();
const columns = computed(() =>
  props.probe.kind === "stranger-after"
    ? [
        { name: `1. ${props.probe.persona} asks`, a: props.probe.first },
        { name: "2. a stranger asks after it", a: props.probe.second },
        { name: "3. a stranger asks when nothing is held", a: props.probe.fresh },
      ]
    : [
        { name: "1. the page as it is watched", a: props.probe.first },
        { name: `2. with another “${props.probe.parameter}”`, a: props.probe.second },
      ],
);
/** A line of the second answer that belongs to the first one's page. */
const foreign = (line: string) =>
  (props.probe.first.lines ?? []).includes(line) &&
  (props.probe.kind === "stranger-after" ? !(props.probe.fresh.lines ?? []).includes(line) : true);
</script>

<template>
  <div class="answers">
    <section v-for="(c, i) in columns" :key="c.name">
      <h3>{{ c.name }}</h3>
      <p class="small">
        status {{ c.a.status }}, {{ c.a.served }}<br /><code>{{ c.a.cacheStatus || "no Cache-Status" }}</code>
      </p>
      <ul class="plain-list lines small">
        <li v-for="(l, n) in (c.a.lines ?? []).slice(0, 60)" :key="n" :class="{ foreign: i === 1 && foreign(l) }">
          {{ l }}
        </li>
      </ul>
      <a v-if="c.a.body" :href="`/api/v1/blobs/${c.a.body}`" target="_blank" class="small">the whole answer, as text</a>
    </section>
  </div>
</template>

<style scoped>
.answers {
  display: flex;
  gap: var(--s3);
}
section {
  flex: 1;
  min-width: 0;
}
.lines {
  max-height: 320px;
  overflow: auto;
  border: 1px solid var(--rule);
  background: var(--sheet);
  padding: var(--s2);
}
.foreign {
  background: var(--broken-wash);
  font-weight: 600;
}
</style>
