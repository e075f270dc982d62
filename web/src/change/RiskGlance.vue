<script setup lang="ts">
/** What a change does to risk: a sounding for each setting in use that can break something, as deep as its risk. */
import { computed } from "vue";
import { inShort, riskWords, soundings } from "./risk";
import type { Change } from "./queries";

const props = defineProps<{ risk: Change["risk"] }>();
const rows = computed(() => [
  { name: "before", depths: soundings(props.risk.before) },
  { name: "with it", depths: soundings(props.risk.after) },
]);
const levels = [3, 2, 1];
</script>

<template>
  <div class="glance" role="group" aria-label="Risk at a glance">
    <p>{{ inShort(risk.before, risk.after) }}</p>
    <svg viewBox="0 0 320 84" role="img" aria-label="Soundings: one line for each setting in use, as long as its risk">
      <g v-for="(row, i) in rows" :key="row.name" :transform="`translate(0 ${i * 42})`">
        <text x="0" y="9">{{ row.name }}</text>
        <line x1="52" x2="318" y1="4" y2="4" stroke="var(--rule-strong)" />
        <line
          v-for="(d, n) in row.depths.slice(0, 52)"
          :key="n"
          :x1="56 + n * 5"
          :x2="56 + n * 5"
          y1="4"
          :y2="4 + d * 10"
          :stroke="d === 3 ? 'var(--broken)' : 'var(--unsure)'"
          :stroke-width="d === 1 ? 1.5 : 2.5"
        />
      </g>
    </svg>
    <ul class="plain-list small">
      <li v-for="r in levels" :key="r">
        <span class="depth" aria-hidden="true">{{ "▾".repeat(r) }}</span> {{ riskWords[r] }}:
        <template v-if="risk.before[r] !== risk.after[r]"
          ><s>{{ risk.before[r] }}</s
          ><span class="visually-hidden"> before, now </span> </template
        ><b>{{ risk.after[r] }}</b>
      </li>
    </ul>
  </div>
</template>

<style scoped>
.glance svg {
  width: 100%;
  max-width: 340px;
}
text {
  font-size: 11px;
  fill: var(--faded);
  font-family: var(--chart);
  font-style: italic;
}
.depth {
  color: var(--unsure);
  display: inline-block;
  width: 2.6em;
}
s {
  color: var(--faded);
  margin-right: 0.3em;
}
</style>
