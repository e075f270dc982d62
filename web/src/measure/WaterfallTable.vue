<script setup lang="ts">
/** Requests of two loads, one by one, on one time axis, and what became of each. */
import { computed } from "vue";
import type { Schemas } from "../api/client";
import { axisEnd, onAxis } from "./measure";
import { valueOf } from "../shared/wording";

type Row = Schemas["Row"];
type Fetch = Schemas["Fetch"];
const props = defineProps<{
  rows: Row[];
  before?: string;
  after?: string;
  largest?: { before?: number; after?: number };
}>();
const end = computed(() =>
  axisEnd(props.rows.flatMap((r) => [r.before?.ended ?? 0, r.after?.ended ?? 0, r.before?.started ?? 0])),
);
const bar = (f: Fetch) => {
  const from = onAxis(f.started, end.value);
  const first = onAxis(f.answered || f.ended || f.started, end.value);
  const to = onAxis(f.ended || f.answered || f.started, end.value);
  return { left: from, wait: Math.max(0, first - from), come: Math.max(0.4, to - first) };
};
const lanes = (r: Row) =>
  (["before", "after"] as const).map((side) => ({
    side,
    name: props[side] ?? side,
    f: r[side],
    bar: r[side] && bar(r[side]),
  }));
const told = (f: Fetch | undefined) => {
  if (!f) return "not asked for";
  if (f.refused) return "not sent: another host";
  if (f.failed) return f.failed;
  const size = f.cached
    ? "from the browser's cache"
    : `${valueOf("bytes", f.transferred)}, ${valueOf("bytes", f.content)} decoded`;
  return `${f.status}, ${size}, ${Math.round(f.started)} to ${Math.round(f.ended)} ms${f.blocking ? ", blocks drawing" : ""}`;
};
const grave = ["fails now", "blocks drawing now", "larger", "slower", "new"];
</script>

<template>
  <table class="tide falls">
    <thead>
      <tr>
        <th>Request</th>
        <th class="axis">
          <span v-for="n in 5" :key="n" :style="{ left: (n - 1) * 25 + '%' }" :class="{ end: n === 5 }">{{
            valueOf("ms", (end * (n - 1)) / 4)
          }}</span>
        </th>
        <th>Result</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(r, i) in rows" :key="i">
        <td class="name">
          <span :title="(r.after ?? r.before)?.url">{{ r.name }}</span>
          <span class="small faded kind"
            >{{ r.kind }}<template v-if="r.third">, {{ r.host }}</template></span
          >
        </td>
        <td class="axis">
          <span v-for="l in lanes(r)" :key="l.side" class="lane">
            <template v-if="l.f && l.bar">
              <span class="visually-hidden">{{ l.name }}: {{ told(l.f) }}. </span>
              <span
                class="bar"
                :class="[
                  l.side,
                  {
                    bad: l.f.failed || l.f.refused || (l.f.status ?? 0) >= 400,
                    blocks: l.f.blocking,
                    kept: l.f.cached,
                  },
                ]"
                :title="`${l.name}: ${told(l.f)}`"
                :style="{ left: l.bar.left + '%', width: l.bar.wait + l.bar.come + '%' }"
              >
                <i :style="{ width: (100 * l.bar.wait) / (l.bar.wait + l.bar.come) + '%' }" />
              </span>
            </template>
          </span>
          <template v-for="side in ['before', 'after'] as const" :key="`line ${side}`">
            <span
              v-if="largest?.[side]"
              class="line"
              :class="side"
              :style="{ left: onAxis(largest[side]!, end) + '%' }"
              aria-hidden="true"
            />
          </template>
        </td>
        <td class="small">
          <span v-for="(b, n) in r.became ?? []" :key="b" :class="{ grave: grave.includes(b) }"
            >{{ n ? ", " : "" }}{{ b }}</span
          >
        </td>
      </tr>
    </tbody>
  </table>
</template>

<style scoped>
.falls {
  table-layout: fixed;
}
.falls th:first-child {
  width: 30%;
}
.falls th:last-child,
.falls td:last-child {
  padding-left: var(--s2);
}
.falls th:last-child {
  width: 18%;
}
.falls td {
  padding: 3px 8px 3px 0;
}
.name {
  overflow-wrap: anywhere;
  font-size: 0.88rem;
}
.kind {
  margin-left: 6px;
}
.axis {
  position: relative;
}
th.axis {
  height: 1.8rem;
}
th.axis span {
  position: absolute;
  white-space: nowrap;
  font-size: 0.8rem;
  font-style: normal;
}
th.axis .end {
  transform: translateX(-100%);
}
td.axis {
  background: repeating-linear-gradient(to right, var(--rule) 0 1px, transparent 1px 25%);
}
.lane {
  display: block;
  position: relative;
  height: 9px;
}
.bar {
  position: absolute;
  top: 1px;
  height: 7px;
  min-width: 3px;
  background: var(--rule-strong);
}
.bar.after {
  background: var(--deep);
}
.bar i {
  display: block;
  height: 100%;
  background: var(--sheet);
  border: 1px solid var(--rule-strong);
}
.bar.after i {
  border-color: var(--deep);
}
.bar.kept {
  opacity: 0.45;
}
.bar.blocks {
  outline: 1px solid var(--unsure);
  outline-offset: 1px;
}
.bar.bad {
  background: var(--broken);
}
.line {
  position: absolute;
  top: 0;
  bottom: 0;
  border-left: 1px dashed var(--rule-strong);
}
.line.after {
  border-color: var(--deep);
}
.grave {
  color: var(--broken);
}
</style>
