<script setup lang="ts">
/** A run at a glance: pages and journeys down, people and devices across, and what was seen at each place. */
import { computed, ref } from "vue";
import ShowMore from "../shared/ShowMore.vue";
import StateGlyph from "../shared/StateGlyph.vue";
import { useGrid } from "../shared/grid";
import { summed, verdictMap } from "./map";
import { useLooks, type Run } from "./queries";

const props = defineProps<{ run: Run }>();
const chosen = defineModel<number | undefined>({ required: true });
const { data: looks } = useLooks(() => props.run.id);
const map = computed(() => verdictMap(looks.value ?? [], props.run.findings));
const shown = ref(60);
const { onKeydown, tab, put } = useGrid(
  () => Math.min(map.value.rows.length, shown.value),
  () => map.value.columns.length,
);
const people = computed(() => {
  const out: { persona: string; span: number }[] = [];
  for (const c of map.value.columns) {
    const last = out.at(-1);
    if (last?.persona === c.persona) last.span++;
    else out.push({ persona: c.persona, span: 1 });
  }
  return out;
});
const here = (ids: { id: number }[]) => ids.some((f) => f.id === chosen.value);
function choose(r: number, c: number) {
  put(r, c);
  const first = map.value.rows[r]!.cells[c]!.findings[0];
  if (first) chosen.value = first.id;
}
</script>

<template>
  <section v-if="map.rows.length" class="map" aria-labelledby="map-title">
    <h2 id="map-title">
      By place<span class="small faded sum">{{ summed(map) }}</span>
    </h2>
    <div class="scroll" tabindex="0" role="group" aria-label="The map; arrow keys go from place to place">
      <table @keydown="onKeydown">
        <thead>
          <tr>
            <td></td>
            <th v-for="p in people" :key="p.persona" :colspan="p.span" scope="colgroup">{{ p.persona }}</th>
          </tr>
          <tr>
            <td></td>
            <th v-for="(c, n) in map.columns" :key="n" scope="col" class="small">{{ c.device }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(r, i) in map.rows.slice(0, shown)" :key="(r.journey ? 'j' : 'p') + r.name">
            <th scope="row" :class="{ journey: r.journey }">{{ r.name }}</th>
            <td v-for="(c, n) in r.cells" :key="n">
              <button
                v-if="c.state !== 'not seen'"
                type="button"
                :data-cell="`${i},${n}`"
                :tabindex="tab(i, n)"
                :class="{ here: here(c.findings) }"
                :aria-pressed="here(c.findings)"
                :aria-label="`${r.name}, ${map.columns[n]!.persona}, ${map.columns[n]!.device}: ${c.state}`"
                :title="c.findings[0]?.title ?? c.state"
                @click="choose(i, n)"
              >
                <StateGlyph :state="c.state" bare />
              </button>
              <span v-else class="visually-hidden">not looked at</span>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <ShowMore v-model="shown" :of="map.rows.length" what="pages and journeys" />
  </section>
</template>

<style scoped>
.sum {
  font-family: var(--text);
  font-style: normal;
  font-weight: 400;
  margin-left: var(--s3);
}
.scroll {
  max-height: 10rem;
  overflow: auto;
  width: fit-content;
  max-width: 100%;
  border-bottom: 1px solid var(--rule);
}
table {
  border-collapse: collapse;
}
thead {
  position: sticky;
  top: 0;
  background: var(--paper);
  z-index: 1;
}
th {
  font-weight: 400;
  text-align: center;
  padding: 0 6px;
}
thead tr:first-child th {
  border-left: 1px solid var(--rule);
}
th[scope="row"] {
  text-align: left;
  min-width: 9rem;
  max-width: 20rem;
  overflow-wrap: anywhere;
  padding-left: 0;
}
.journey {
  font-family: var(--chart);
  font-style: italic;
}
tbody tr {
  border-top: 1px solid var(--rule);
}
td {
  text-align: center;
  padding: 0;
}
button {
  min-width: 40px;
  min-height: 24px;
  padding: 2px;
  border: 1px solid transparent;
  background: none;
  color: inherit;
  cursor: pointer;
}
button.here {
  border-color: var(--deep);
  background: var(--shoal);
}
</style>
