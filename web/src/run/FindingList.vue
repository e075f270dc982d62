<script setup lang="ts">
/** Findings by cause, the worst first; one is chosen. */
import { computed, nextTick, useTemplateRef, watch } from "vue";
import type { Finding } from "./queries";
import { aboutCause, byCause } from "./findings";
import PlaceList from "./PlaceList.vue";
import StateGlyph from "../shared/StateGlyph.vue";

const props = defineProps<{ findings: Finding[] }>();
const chosen = defineModel<number | undefined>({ required: true });
const causes = computed(() => byCause(props.findings));
const list = useTemplateRef("list");
// What a key chooses is seen; the window stays where it is.
watch(chosen, async () => {
  await nextTick();
  const at = list.value?.querySelector("[aria-current=true]") ?? list.value?.querySelector("[aria-expanded=true]");
  at?.scrollIntoView({ block: "nearest" });
});
const holds = (c: { findings: Finding[] }) => c.findings.some((f) => f.id === chosen.value);
</script>

<template>
  <ul ref="list" class="plain-list" aria-label="Findings">
    <li v-for="c in causes" :key="c.cause" class="cause" :class="[c.severity, { open: holds(c) }]">
      <button type="button" class="head" :aria-expanded="holds(c)" @click="chosen = c.findings[0]!.id">
        <StateGlyph :state="c.severity" bare />
        <span
          ><strong>{{ c.title }}</strong
          ><br /><span class="small faded">{{ aboutCause(c) }}</span></span
        >
      </button>
      <PlaceList v-if="holds(c) && c.findings.length > 1" v-model="chosen" :findings="c.findings" />
    </li>
  </ul>
</template>

<style scoped>
.cause {
  border-bottom: 1px solid var(--rule);
  border-left: 4px solid transparent;
}
.cause.open {
  background: var(--sheet);
  border-left-color: var(--deep);
}
button {
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  text-align: left;
  cursor: pointer;
}
.head {
  display: grid;
  grid-template-columns: 18px 1fr;
  gap: 6px;
  width: 100%;
  padding: 7px 6px;
  overflow-wrap: anywhere;
}
</style>
