<script setup lang="ts">
/** Findings by cause, the worst first; one is chosen. */
import { computed, nextTick, useTemplateRef, watch } from "vue";
import type { Finding } from "./queries";
import { aboutCause, byCause, kindNames } from "./findings";
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
      <ul v-if="holds(c) && c.findings.length > 1" class="plain-list places">
        <li v-for="f in c.findings" :key="f.id">
          <button
            type="button"
            :class="{ here: f.id === chosen }"
            :aria-current="f.id === chosen"
            @click="chosen = f.id"
          >
            <template v-if="f.symptom">↳ {{ kindNames[f.kind] ?? f.kind }}: </template>{{ f.page }} · {{ f.device
            }}<template v-if="f.persona !== 'visitor'"> · {{ f.persona }}</template
            ><span v-if="f.state === 'accepted'"> · accepted</span>
          </button>
        </li>
      </ul>
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
.places {
  padding: 0 0 6px 30px;
}
.places button {
  min-height: 24px;
  padding: 2px 6px;
  width: 100%;
}
.places .here {
  background: var(--shoal);
  font-weight: 600;
}
</style>
