<script setup lang="ts">
/** Page classes down, people across: who is never served a cached page, and is that so? */
import { computed } from "vue";
import type { Cell } from "./queries";
import { grid, inWords, matrixInWords, signOf } from "./cells";
import { useGrid } from "../shared/grid";
import CellSign from "./CellSign.vue";

const props = defineProps<{ cells: Cell[] }>();
const chosen = defineModel<Cell>();
const g = computed(() => grid(props.cells));
const widths = computed(() =>
  g.value.people.map((p) => Math.max(...g.value.classes.map((c) => g.value.cellsOf(c, p).length))),
);
/** The number of a cell among all of its row. */
const column = (p: number, n: number) => widths.value.slice(0, p).reduce((a, b) => a + b, n);
const keys = useGrid(
  () => g.value.classes.length,
  () => column(g.value.people.length, 0),
);
const key = [
  { policy: "never", trouble: "", says: "never cached" },
  { policy: "all", trouble: "", says: "cached for all" },
  { policy: "own", trouble: "", says: "a copy for each" },
  { policy: "all", trouble: "wasted", says: "may be cached, never is" },
  { policy: "never", trouble: "open", says: "settings let it be cached" },
  { policy: "never", trouble: "leaks", says: "was served from the cache" },
] as const;
const same = (c: Cell) =>
  chosen.value?.class === c.class && chosen.value.persona === c.persona && chosen.value.device === c.device;
</script>

<template>
  <div>
    <p class="sum">{{ matrixInWords(cells) }}</p>
    <div class="scroll">
      <table class="tide matrix" @keydown="keys.onKeydown">
        <thead>
          <tr>
            <th>Pages</th>
            <th v-for="p in g.people" :key="p" :class="{ nobody: g.nobody.has(p) }">
              {{ g.nobody.has(p) ? p.replaceAll("-", " ") : p
              }}<span v-if="g.nobody.has(p)" class="small"><br />no persona</span>
            </th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(c, row) in g.classes" :key="c">
            <th scope="row">{{ c }}</th>
            <td v-for="(p, at) in g.people" :key="p">
              <button
                v-for="(cell, n) in g.cellsOf(c, p)"
                :key="cell.device"
                type="button"
                :data-cell="`${row},${column(at, n)}`"
                :tabindex="keys.tab(row, column(at, n))"
                :class="{ loud: signOf(cell).loud, chosen: same(cell), nobody: cell.nobody }"
                :aria-pressed="same(cell)"
                :aria-label="`${c}, ${p}, ${cell.device}: ${inWords(cell.policy)}. ${cell.text}`"
                :title="`${cell.device}: ${cell.text}`"
                @click="(keys.put(row, column(at, n)), (chosen = cell))"
              >
                <CellSign :cell="cell" />
              </button>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <p class="small faded key">
      <span v-for="k in key" :key="k.says"><CellSign :cell="{ ...k, text: '' }" /> {{ k.says }}</span>
      <span>left desktop, right phone</span>
    </p>
  </div>
</template>

<style scoped>
.sum {
  font-family: var(--chart);
  font-size: 1.1rem;
  margin-bottom: var(--s2);
}
.matrix th[scope="row"] {
  font-style: normal;
  font-family: var(--text);
  color: var(--ink);
  border-bottom: 1px solid var(--rule);
}
.scroll {
  overflow-x: auto;
}
.matrix th[scope="row"] {
  position: sticky;
  left: 0;
  background: var(--paper);
}
.matrix td {
  padding: 2px 6px 2px 0;
}
button {
  background: none;
  border: 1px solid transparent;
  padding: 3px 4px;
  cursor: pointer;
  color: inherit;
}
button.loud {
  background: var(--broken-wash);
  border-color: var(--broken);
}
button.chosen {
  border-color: var(--deep);
  background: var(--shoal);
}
.nobody {
  color: var(--faded);
}
button.nobody {
  opacity: 0.75;
}
.key {
  display: flex;
  flex-wrap: wrap;
  gap: 2px var(--s3);
  margin-top: var(--s2);
}
</style>
