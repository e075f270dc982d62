<script setup lang="ts">
/** The answers that a page cache confused, one beside the other. */
import { computed } from "vue";
import type { Schemas } from "../api/client";

const props = defineProps<{ probe: Schemas["Probe"] }>();
const askers = computed(() => {
  const p = props.probe;
  switch (p.kind) {
    case "stranger-after":
      return [`${p.persona} asks`, "a stranger asks after it", "a stranger asks when nothing is held"];
    case "stranger-twice":
      return ["a stranger asks", "another stranger asks", "a stranger asks when nothing is held"];
    case "persona-after":
      return [`${p.before} asks`, `${p.persona} asks after it`, `${p.persona} asks when nothing is held`];
    case "device-after":
      return [`a ${p.before} asks`, `a ${p.device} asks after it`, `a ${p.device} asks when nothing is held`];
    default:
      return ["the page as it is watched", `with another “${p.parameter}”`];
  }
});
const columns = computed(() => {
  const answers = [props.probe.first, props.probe.second, props.probe.fresh];
  return askers.value.map((name, i) => ({ name: `${i + 1}. ${name}`, a: answers[i]! }));
});
const fields = (a: Schemas["Answer"]) =>
  Object.entries(a.fields ?? {}).map(([name, lines]) => `${name}: ${(lines ?? []).join(", ")}`);
/** A line of the second answer that belongs to the first one's page. */
const foreign = (line: string) =>
  (props.probe.first.lines ?? []).includes(line) &&
  (props.probe.kind !== "other-value" ? !(props.probe.fresh.lines ?? []).includes(line) : true);
</script>

<template>
  <div class="answers">
    <section v-for="(c, i) in columns" :key="c.name">
      <h3>{{ c.name }}</h3>
      <p class="small">
        status {{ c.a.status }}, {{ c.a.served }}<br /><code>{{ c.a.cacheStatus || "no Cache-Status" }}</code>
        <template v-for="f in fields(c.a)" :key="f"
          ><br /><code class="faded">{{ f }}</code></template
        >
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
