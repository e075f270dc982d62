<script setup lang="ts">
/** The environments as rulers on one time axis, the present at the right; what the signs mean stands below. */
import { useNow } from "@vueuse/core";
import { computed } from "vue";
import { useRouter } from "vue-router";
import type { Environment } from "./queries";
import type { Calendar } from "../calendar/queries";
import RulerLegend from "./RulerLegend.vue";
import RulerList from "./RulerList.vue";
import { frozen, lettered, soundings, timeTicks, word, type Sounding } from "./rulers";
import { flagInAddress } from "../shared/address";
import { short } from "../shared/wording";

const props = defineProps<{ environments: Environment[]; calendar?: Calendar }>();
const router = useRouter();

const width = 1240;
const left = 130;
const right = 70;
const gap = 112;
/** True to time, or each thing in a column of its own. */
const toTime = flagInAddress("to-time");
const now = useNow({ interval: 60_000 });
const points = computed(() => soundings(props.environments, toTime.value ? now.value.getTime() : undefined));
const written = computed(() => (toTime.value ? lettered(points.value, step.value, 74) : undefined));
const ticks = computed(() => {
  const first = points.value[0]?.at;
  if (!toTime.value || first === undefined) return [];
  const to = now.value.getTime();
  const whole = (points.value.length - 1) * step.value;
  return timeTicks(first, to).map((t) => ({ at: t, x: left + step.value / 2 + (whole * (t - first)) / (to - first) }));
});
const step = computed(() => (width - left - right) / Math.max(points.value.length, 6));
const x = (s: Sounding) => left + (s.column + 0.5) * step.value;
const y = (env: number) => 62 + env * gap;
const height = computed(() => 62 + (props.environments.length - 1) * gap + 66);
const byKey = computed(() => new Map(points.value.map((p) => [p.key, p])));

const production = computed(() => props.environments.findIndex((e) => e.role === "production"));
const freezes = computed(() => (props.calendar ? frozen(props.calendar, points.value, Date.now()) : []));
const edge = (column: number) => Math.min(left + column * step.value, width - right);

const staging = computed(() => props.environments.findIndex((e) => e.role === "staging"));

/** A promotion's line starts at the try it promoted: the last one on staging. */
function origin(s: Sounding) {
  return points.value.findLast((p) => p.env === staging.value && p.column < s.column && p.kind === "try");
}

/** Where a ruler is broken: from an outside change to the next thing that was known. */
const broken = computed(() =>
  points.value
    .filter((p) => p.kind === "outside")
    .map((p) => {
      const next = points.value.find((q) => q.env === p.env && q.column > p.column);
      return { key: p.key, env: p.env, from: x(p), to: next ? x(next) : width - right };
    }),
);

function open(s: Sounding) {
  if (s.run) void router.push(`/runs/${s.run}`);
}
/** What is to be read of a sounding: first what is written beside it, then what it stands for. */
function label(s: Sounding) {
  const written = [s.number, word[s.kind], short(s.at)].filter(Boolean).join(" ");
  return `${written}, ${s.verdict}: ${s.title}`;
}
</script>

<template>
  <RulerList class="listed" :points="points" :environments="environments" />
  <svg :viewBox="`0 0 ${width} ${height}`" class="rulers" role="group" aria-label="What happened on each environment">
    <g v-for="(e, i) in environments" :key="e.id">
      <text x="0" :y="y(i) - 4" class="env">{{ e.name }}</text>
      <text x="0" :y="y(i) + 14" class="fine">{{ e.fingerprint ? e.fingerprint.slice(0, 8) : "not read yet" }}</text>
      <line :x1="left" :x2="width - right" :y1="y(i)" :y2="y(i)" class="ruler" />
      <g v-for="t in ticks" :key="t.at">
        <line :x1="t.x" :x2="t.x" :y1="y(i)" :y2="y(i) + 8" class="tick" />
        <text v-if="i === environments.length - 1" :x="t.x" :y="height - 2" class="fine mid">{{ short(t.at) }}</text>
      </g>
    </g>
    <template v-if="production >= 0">
      <g v-for="f in freezes" :key="f.key">
        <title>Frozen: {{ f.title }}</title>
        <rect :x="edge(f.from)" :width="edge(f.to) - edge(f.from)" :y="y(production) - 9" height="18" class="freeze" />
        <text
          v-if="edge(f.to) - edge(f.from) > f.title.length * 7"
          :x="edge(f.from) + 4"
          :y="y(production) - 13"
          class="fine"
        >
          {{ f.title }}
        </text>
      </g>
      <text v-if="calendar?.why" :x="width - right + 6" :y="y(production) + 5" class="fine shut">
        {{ freezes.some((f) => edge(f.to) >= width - right) ? "frozen" : "no window" }}
      </text>
    </template>
    <g v-for="b in broken" :key="b.key">
      <line :x1="b.from" :x2="b.to" :y1="y(b.env)" :y2="y(b.env)" class="gap" />
      <line :x1="b.from" :x2="b.to" :y1="y(b.env)" :y2="y(b.env)" class="outside" />
    </g>
    <template v-for="s in points" :key="`l${s.key}`">
      <path
        v-if="s.kind === 'promote' && origin(s)"
        :d="`M${x(origin(s)!)} ${y(staging) + 50} C ${x(origin(s)!)} ${y(s.env) - 20}, ${x(s)} ${y(staging) + 60}, ${x(s)} ${y(s.env) - 12}`"
        class="promotion"
      />
      <path
        v-if="s.back && byKey.get(s.back)"
        :d="`M${x(s)} ${y(s.env)} Q ${(x(s) + x(byKey.get(s.back)!)) / 2} ${y(s.env) - 70} ${x(byKey.get(s.back)!) + 4} ${y(s.env) - 13}`"
        class="back"
        marker-end="url(#tip)"
      />
    </template>
    <g
      v-for="s in points"
      :key="s.key"
      class="sounding"
      :class="[s.verdict.replace(' ', '-'), { link: s.run }]"
      :transform="`translate(${x(s)} ${y(s.env)})`"
      :tabindex="s.run ? 0 : undefined"
      :role="s.run ? 'link' : 'img'"
      :aria-label="label(s)"
      @click="open(s)"
      @keydown.enter="open(s)"
    >
      <rect x="-18" y="-18" width="36" height="36" fill="transparent" />
      <path v-if="s.verdict === 'broken'" d="M0-12 13 11H-13Z" />
      <template v-else-if="s.verdict === 'unsure'">
        <circle r="11" class="hollow" />
        <path d="M0-11a11 11 0 0 1 0 22Z" />
      </template>
      <circle v-else-if="s.verdict === 'clear'" r="12" />
      <path v-else-if="s.verdict === 'running'" d="M-14 3c5-9 9-9 14 0s9 9 14 0" class="wave" />
      <circle v-else-if="s.verdict === 'outside'" r="5" class="hollow" />
      <circle v-else r="10" class="ring" />
    </g>
    <g
      v-for="s in points"
      :key="`t${s.key}`"
      class="written"
      aria-hidden="true"
      :transform="`translate(${x(s)} ${y(s.env)})`"
    >
      <text v-if="s.number" y="4" class="number">{{ s.number }}</text>
      <template v-if="!written || written.has(s.key)">
        <text y="30" class="what">{{ word[s.kind] }}</text>
        <text y="43" class="fine mid">{{ short(s.at) }}</text>
      </template>
    </g>
    <line :x1="width - right" :x2="width - right" y1="16" :y2="height - 30" class="now" />
    <text :x="width - right + 6" y="24" class="env now-text">now</text>
    <defs>
      <pattern id="freeze" width="6" height="6" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        <line x1="0" x2="0" y1="0" y2="6" class="hatch" />
      </pattern>
      <marker id="tip" viewBox="0 0 8 8" refX="6" refY="4" markerWidth="8" markerHeight="8" orient="auto">
        <path d="M0 0 8 4 0 8Z" class="tip" />
      </marker>
    </defs>
  </svg>
  <RulerLegend v-model="toTime" class="legend" :freezes="freezes.length > 0" />
</template>

<style scoped>
.rulers {
  width: 100%;
  height: auto;
  display: block;
}
.listed {
  display: none;
}
@media (max-width: 760px) {
  .rulers,
  .legend {
    display: none;
  }
  .listed {
    display: block;
  }
}
.env {
  font: italic 600 17px var(--chart);
  fill: var(--ink);
}
.fine {
  font: 11px var(--text);
  fill: var(--faded);
}
.mid,
.what {
  text-anchor: middle;
}
.what {
  font: 600 12.5px var(--text);
  fill: var(--ink);
}
.ruler {
  stroke: var(--ink);
  stroke-width: 2;
}
.tick {
  stroke: var(--rule-strong);
  stroke-width: 1;
}
.freeze {
  fill: url(#freeze);
  stroke: var(--rule-strong);
}
.hatch {
  stroke: var(--rule-strong);
  stroke-width: 2;
}
.shut {
  font-weight: 600;
  fill: var(--unsure);
}
.gap {
  stroke: var(--sheet);
  stroke-width: 5;
}
.outside {
  stroke: var(--broken);
  stroke-width: 3;
  stroke-dasharray: 4 7;
}
.promotion {
  fill: none;
  stroke: var(--deep);
  stroke-width: 2.5;
}
.back {
  fill: none;
  stroke: var(--unsure);
  stroke-width: 2;
  stroke-dasharray: 7 4;
}
.tip {
  fill: var(--unsure);
}
.sounding {
  fill: var(--blind);
  stroke: none;
}
.sounding.link {
  cursor: pointer;
}
.clear {
  fill: var(--clear);
}
.broken {
  fill: var(--broken);
}
.unsure {
  fill: var(--unsure);
}
.running {
  fill: var(--deep);
}
.hollow,
.ring {
  fill: var(--sheet);
  stroke: currentColor;
  stroke-width: 2;
  color: var(--blind);
}
.unsure .hollow {
  color: var(--unsure);
}
.outside .hollow {
  color: var(--broken);
}
.ring {
  stroke-dasharray: 4 3;
}
.wave {
  fill: none;
  stroke: var(--deep);
  stroke-width: 3;
}
.written {
  pointer-events: none;
}
.number {
  font: 700 12px var(--text);
  fill: var(--sheet);
  text-anchor: middle;
}
.now {
  stroke: var(--broken);
  stroke-width: 1.5;
}
.now-text {
  font-size: 15px;
  fill: var(--broken);
}
</style>
