<script setup lang="ts">
/** The answers that a page cache confused, one beside the other. */
import Button from "primevue/button";
import { computed, ref } from "vue";
import type { Schemas } from "../api/client";
import { answers, foreign, shownLines } from "./probes";

const props = defineProps<{ probe: Schemas["Probe"] }>();
const columns = computed(() => answers(props.probe));
const all = ref(false);
const lines = (i: number) => {
  const c = columns.value[i]!;
  return shownLines(c.a.lines ?? [], all.value, (l) => i === 1 && foreign(props.probe, l));
};
const fields = (a: Schemas["Answer"]) =>
  Object.entries(a.fields ?? {}).map(([name, lines]) => `${name}: ${(lines ?? []).join(", ")}`);
</script>

<template>
  <div class="answers">
    <section v-for="(c, i) in columns" :key="c.name">
      <h3>{{ c.name }}</h3>
      <p class="small">
        status {{ c.a.status }}, {{ c.a.served }}<br /><code>{{ c.a.cacheNote }}</code>
        <template v-for="f in fields(c.a)" :key="f"
          ><br /><code class="faded">{{ f }}</code></template
        >
      </p>
      <p v-if="c.a.privateTexts?.length" class="small">It has {{ c.a.privateTexts.join(", ") }}.</p>
      <ul class="plain-list lines small">
        <li v-for="(l, n) in lines(i).shown" :key="n" :class="{ foreign: i === 1 && foreign(probe, l) }">
          {{ l }}
        </li>
      </ul>
      <p v-if="lines(i).more" class="small">
        {{ lines(i).more }} more lines that are not in question.
        <Button size="small" text label="Show all lines" @click="all = true" />
      </p>
      <a v-if="c.a.body" :href="`/api/v1/blobs/${c.a.body}`" target="_blank" class="small">the whole answer, as text</a>
    </section>
  </div>
</template>

<style scoped>
.answers {
  display: flex;
  flex-wrap: wrap;
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
