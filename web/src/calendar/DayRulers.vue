<script setup lang="ts">
/**
 * Days as rulers, one below the other, midnight to midnight in the reader's zone: a hatched stretch is a
 * freeze, a raised one a window, a point what went out, the upright line the present.
 */
import type { Day } from "./calendar";
import { weekday } from "../shared/wording";

defineProps<{ days: Day[] }>();
const width = 760;
const left = 104;
const row = 15;
const top = 22;
const x = (part: number) => left + part * (width - left - 4);
const y = (i: number, days: Day[]) =>
  top + i * row + days.slice(0, i + 1).filter((d, k) => k > 0 && d.start.getDay() === 1).length * 7;
const hours = [0, 6, 12, 18, 24];
/** The title is written where an entry begins, or on the first day that is shown. */
const titled = (days: Day[], i: number, entry: number) =>
  i === 0 || !days[i - 1]!.stretches.some((s) => s.entry === entry && s.to === 1);
</script>

<template>
  <div class="across" tabindex="0" role="group" aria-label="Freezes and windows, day by day">
    <svg
      :viewBox="`0 0 ${width} ${y(days.length - 1, days) + row + 4}`"
      class="days"
      role="img"
      aria-label="Freezes and windows, day by day; the table beside says the same"
    >
      <defs>
        <pattern id="frozen" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="6" height="6" class="frozen-ground" />
          <line x1="0" x2="0" y1="0" y2="6" class="frozen-line" />
        </pattern>
      </defs>
      <text v-for="h in hours" :key="h" :x="x(h / 24)" y="13" class="hour" :class="{ end: h === 24 }">{{ h }}:00</text>
      <g v-for="(d, i) in days" :key="d.start.getTime()" :transform="`translate(0 ${y(i, days)})`">
        <text x="0" y="12" class="day" :class="{ today: d.now !== undefined }">{{ weekday(d.start) }}</text>
        <line :x1="left" :x2="width - 4" y1="13.5" y2="13.5" class="base" />
        <line
          v-for="n in 25"
          :key="n"
          :x1="x((n - 1) / 24)"
          :x2="x((n - 1) / 24)"
          :y1="n % 6 === 1 ? 8 : 11"
          y2="13.5"
          class="tick"
        />
        <g v-for="s in d.stretches" :key="`${s.entry}-${s.from}`">
          <title>{{ s.title }} ({{ s.kind }})</title>
          <rect
            :x="x(s.from)"
            :width="x(s.to) - x(s.from)"
            :y="s.kind === 'freeze' ? 0.5 : 2.5"
            :height="s.kind === 'freeze' ? 13 : 11"
            :class="s.kind"
          />
          <text
            v-if="titled(days, i, s.entry) && x(s.to) - x(s.from) > s.title.length * 5.6"
            :x="x(s.from) + 5"
            y="11"
            class="title"
          >
            {{ s.title }}
          </text>
        </g>
        <path
          v-for="g in d.going"
          :key="g.change"
          :transform="`translate(${x(g.at)} 7)`"
          d="M0-6 6 0 0 6-6 0Z"
          class="gone"
        >
          <title>{{ g.site }}: {{ g.title }} was promoted</title>
        </path>
        <line v-if="d.now !== undefined" :x1="x(d.now)" :x2="x(d.now)" y1="-1" y2="16" class="now" />
      </g>
    </svg>
  </div>
</template>

<style scoped>
.days {
  width: 100%;
  height: auto;
  display: block;
}
.day,
.hour {
  font: 12px var(--text);
  fill: var(--faded);
}
.day.today {
  font-weight: 700;
  fill: var(--ink);
}
.hour {
  font-size: 10.5px;
  text-anchor: middle;
}
.hour.end {
  text-anchor: end;
}
.base,
.tick {
  stroke: var(--rule-strong);
  stroke-width: 1;
}
.tick {
  stroke-width: 0.6;
}
.window {
  fill: var(--shoal);
  stroke: var(--deep);
  stroke-width: 1;
}
.freeze {
  fill: url(#frozen);
  stroke: var(--ink);
  stroke-width: 1;
}
.frozen-ground {
  fill: var(--blind-wash);
}
.frozen-line {
  stroke: var(--rule-strong);
  stroke-width: 1.6;
}
.title {
  font: 600 11px var(--text);
  fill: var(--ink);
  paint-order: stroke;
  stroke: var(--sheet);
  stroke-width: 3px;
}
.gone {
  fill: var(--deep);
  stroke: var(--sheet);
}
.now {
  stroke: var(--broken);
  stroke-width: 2;
}
</style>
