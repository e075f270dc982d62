<script setup lang="ts">
/** The 75th percentile day by day, with its interval, the published thresholds, and what was promoted. */
import { computed } from "vue";
import type { FieldView } from "./queries";
import { daysBetween, parts, scaleOf, stretches } from "./field";
import { month, valueOf } from "../shared/wording";

const props = defineProps<{ view: FieldView }>();
const W = 1200;
const H = 250;
const L = 62; // room for the scale
const days = computed(() => daysBetween(props.view.from, props.view.to));
const at = computed(() => new Map(days.value.map((d, i) => [d, i])));
const step = computed(() => (W - L) / Math.max(1, days.value.length));
const x = (day: string) => L + (at.value.get(day)! + 0.5) * step.value;
const scale = computed(() =>
  scaleOf(
    [...props.view.days.map((d) => d.p75), ...props.view.file.map((d) => d.p75)],
    [props.view.good, props.view.poor],
  ),
);
const top = computed(() => scale.value.top);
const y = (v: number) => H - (H * Math.min(v, top.value)) / top.value;
const line = (list: { day: string; p75: number }[]) =>
  list.map((d, i) => `${i ? "L" : "M"}${x(d.day).toFixed(1)} ${y(d.p75).toFixed(1)}`).join("");
const band = (list: FieldView["days"]) =>
  list.map((d, i) => `${i ? "L" : "M"}${x(d.day).toFixed(1)} ${y(d.high).toFixed(1)}`).join("") +
  [...list]
    .reverse()
    .map((d) => `L${x(d.day).toFixed(1)} ${y(d.low).toFixed(1)}`)
    .join("") +
  "Z";
const ticks = computed(() => scale.value.ticks);
const months = computed(() => days.value.filter((d, i) => d.endsWith("-01") || (i === 0 && Number(d.slice(-2)) < 22)));
const events = computed(() =>
  props.view.events
    .map((e, i) => ({ n: i + 1, day: e.at.slice(0, 10), e }))
    .filter((e) => at.value.has(e.day))
    .map((e) => ({ ...e, x: x(e.day) })),
);
const thresholds = computed(() =>
  [
    { v: props.view.good, word: "good up to" },
    { v: props.view.poor, word: "poor from" },
  ].filter((t) => t.v > 0 && t.v <= top.value),
);
/** The parts of each day's page views, stacked. */
const bars = computed(() =>
  props.view.days.flatMap((d) => {
    const p = parts(d);
    let from = H + 30;
    return (["good", "middling", "poor"] as const).map((is) => {
      const b = { day: d.day, is, x: x(d.day) - step.value / 2, y: from, tall: 56 * p[is] };
      from += b.tall;
      return b;
    });
  }),
);
const last = computed(() => props.view.days.at(-1));
</script>

<template>
  <figure class="chart">
    <div class="across" tabindex="0" role="group" aria-label="The chart; it scrolls sideways">
      <svg
        :viewBox="`0 -8 ${W} ${H + 100}`"
        role="img"
        :aria-label="`${view.title}, 75th percentile of each day from ${view.from} to ${view.to}; last ${last ? valueOf(view.unit, last.p75) : 'nothing'}. The table below says the same.`"
      >
        <g class="scale">
          <template v-for="t in ticks" :key="t">
            <line :x1="L" :x2="W" :y1="y(t)" :y2="y(t)" />
            <text :x="L - 8" :y="y(t) + 4" text-anchor="end">{{ valueOf(view.unit, t) }}</text>
          </template>
          <template v-for="m in months" :key="m">
            <line :x1="x(m)" :x2="x(m)" :y1="H" :y2="H + 6" />
            <text :x="x(m) + 3" :y="H + 17">{{ month(m) }}</text>
          </template>
        </g>
        <path v-for="(s, i) in stretches(view.days)" :key="'band' + i" class="band" :d="band(s)" />
        <path v-for="(s, i) in stretches(view.file)" :key="'file' + i" class="file" :d="line(s)" />
        <path v-for="(s, i) in stretches(view.days)" :key="'line' + i" class="line" :d="line(s)" />
        <g v-for="t in thresholds" :key="t.word" class="threshold">
          <line :x1="L" :x2="W" :y1="y(t.v)" :y2="y(t.v)" />
          <text :x="L + 6" :y="y(t.v) - 5">{{ t.word }} {{ valueOf(view.unit, t.v) }}</text>
        </g>
        <g v-for="e in events" :key="e.n" class="event" :class="e.e.kind.replace(' ', '-')">
          <line :x1="e.x" :x2="e.x" y1="6" :y2="H" />
          <path :d="`M${e.x} 6 l16 6 l-16 6 z`" />
          <text :x="e.x - 4" y="17" text-anchor="end">{{ e.n }}</text>
          <title>{{ e.e.title || e.e.kind }}</title>
        </g>
        <g class="share">
          <rect
            v-for="b in bars"
            :key="b.day + b.is"
            :class="b.is"
            :x="b.x"
            :y="b.y"
            :width="step * 0.92"
            :height="b.tall"
          />
          <text :x="L - 8" :y="H + 44" text-anchor="end">good</text>
          <text :x="L - 8" :y="H + 84" text-anchor="end">poor</text>
        </g>
      </svg>
    </div>
    <figcaption class="small faded">
      The line is the 75th percentile of each day, its band where that of all such visitors lies (95 %). Below, the
      parts of page views that were good, in need of improvement and poor: the deeper the colour, the worse.<template
        v-if="view.file.length"
      >
        The dotted line is what was read from a file.</template
      >
    </figcaption>
  </figure>
</template>

<style scoped>
.chart {
  margin: 0;
}
svg {
  width: 100%;
  height: auto;
  display: block;
  overflow: visible;
}
text {
  font: 12px var(--text);
  fill: var(--faded);
}
.scale line {
  stroke: var(--rule);
}
.threshold text {
  paint-order: stroke;
  stroke: var(--sheet);
  stroke-width: 4px;
}
.threshold line {
  stroke: var(--unsure);
  stroke-dasharray: 5 4;
}
.band {
  fill: var(--deep);
  opacity: 0.16;
}
.line {
  fill: none;
  stroke: var(--deep);
  stroke-width: 2;
}
.file {
  fill: none;
  stroke: var(--ink);
  stroke-width: 1.5;
  stroke-dasharray: 1 4;
  stroke-linecap: round;
}
.event line {
  stroke: var(--focus);
}
.event path {
  fill: var(--focus);
}
.event text {
  fill: var(--focus);
  font-weight: 600;
}
.event.roll-back path {
  fill: var(--sheet);
  stroke: var(--focus);
}
.good {
  fill: var(--deep);
  opacity: 0.14;
}
.middling {
  fill: var(--deep);
  opacity: 0.45;
}
.poor {
  fill: var(--deep);
}
</style>
