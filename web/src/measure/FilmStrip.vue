<script setup lang="ts">
/** How a page came into view on both sides, on one time axis. */
import { computed } from "vue";
import type { Schemas } from "../api/client";
import { axisEnd, frameAt } from "./measure";
import { valueOf } from "../shared/wording";

const props = defineProps<{ before?: Schemas["SideMeasured"]; after?: Schemas["SideMeasured"] }>();
const sides = computed(() =>
  [
    { name: "before", of: props.before },
    { name: "after", of: props.after },
  ].filter((s) => s.of?.film?.length),
);
const end = computed(() => axisEnd(sides.value.flatMap((s) => s.of!.film.map((f) => f.at))));
const moments = computed(() => Array.from({ length: 9 }, (_, i) => (end.value * i) / 8));
const tall = computed(() => {
  const l = sides.value[0]?.of?.load;
  return l?.width && l.height ? l.height / l.width : undefined;
});
/** How complete the window is, on the axis of the pictures: each begins at the left edge of its column. */
const curve = (film: Schemas["Frame"][]) => {
  const x = (at: number) => ((800 * at) / end.value).toFixed(1);
  const y = (complete: number) => (88 - 84 * complete).toFixed(1);
  let d = `M0 ${y(0)}`;
  for (const f of film) d += `H${x(f.at)}V${y(f.complete)}`;
  return `${d}H900`;
};
const told = (film: Schemas["Frame"][]) =>
  film.map((f) => `${Math.round(100 * f.complete)} % at ${valueOf("ms", f.at)}`).join(", ");
const alt = (name: string, f: Schemas["Frame"] | undefined, m: number) =>
  `${name}, ${valueOf("ms", m)}: ${f ? `${Math.round(100 * f.complete)} % there` : "nothing yet"}`;
</script>

<template>
  <section v-if="sides.length" class="sheet stack">
    <h2>How it appears</h2>
    <div class="across" tabindex="0" role="group" aria-label="The film; it scrolls sideways">
      <table class="film">
        <thead>
          <tr>
            <td></td>
            <th v-for="m in moments" :key="m" scope="col" class="small">{{ valueOf("ms", m) }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="s in sides" :key="s.name">
            <th scope="row">{{ s.name }}</th>
            <td v-for="m in moments" :key="m">
              <template v-for="f in [frameAt(s.of!.film, m)]" :key="f?.at ?? -1">
                <img
                  v-if="f?.picture"
                  :src="`/api/v1/blobs/${f.picture}`"
                  :alt="alt(s.name, f, m)"
                  :class="{ whole: f.complete >= 0.99 }"
                />
                <span
                  v-else
                  class="blank"
                  :style="{ aspectRatio: tall ? 1 / tall : 0.62 }"
                  role="img"
                  :aria-label="alt(s.name, f, m)"
                />
              </template>
            </td>
          </tr>
          <tr>
            <th scope="row">visual progress</th>
            <td :colspan="moments.length">
              <svg
                class="curve"
                viewBox="0 0 900 90"
                preserveAspectRatio="none"
                role="img"
                :aria-label="sides.map((s) => `${s.name}: ${told(s.of!.load.film ?? [])}`).join('; ')"
              >
                <line v-for="(m, i) in moments" :key="m" :x1="100 * i" :x2="100 * i" y1="0" y2="90" />
                <line x1="0" x2="900" y1="88" y2="88" />
                <path v-for="s in sides" :key="s.name" :class="s.name" :d="curve(s.of!.load.film ?? [])" />
              </svg>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <p class="small faded">
      Each picture is what the window showed at the moment above its left edge, of one load of each side; a heavier
      frame means that everything is there. The lines stand on the same axis, the lighter one before, the darker after.
    </p>
  </section>
</template>

<style scoped>
.film {
  width: 100%;
  min-width: 640px;
  table-layout: fixed;
  border-spacing: 4px;
}
.film th {
  font-weight: 500;
  text-align: left;
  color: var(--faded);
}
.film img,
.blank {
  display: block;
  width: 100%;
  border: 1px solid var(--rule-strong);
  background: #fff;
}
.curve {
  display: block;
  width: 100%;
  height: 70px;
}
.curve line {
  stroke: var(--rule);
  vector-effect: non-scaling-stroke;
}
.curve path {
  fill: none;
  stroke: var(--rule-strong);
  stroke-width: 2;
  vector-effect: non-scaling-stroke;
}
.curve path.after {
  stroke: var(--deep);
}
.film img.whole {
  border: 2px solid var(--ink);
}
</style>
