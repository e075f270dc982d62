<script setup lang="ts">
/** What a change did to speed: each metric before and after, by how much and how sure, on one scale. */
import { computed } from "vue";
import type { Run } from "../api/queries";
import { differenceOf, overall, place, reach, valueOf, type Comparison } from "./measure";
import StateGlyph from "./StateGlyph.vue";

const props = defineProps<{ run: Run }>();
const m = computed(() => props.run.measure!);
const over = computed(() => ["done", "stopped", "failed"].includes(props.run.state));
const all = computed(() => (m.value.comparisons ?? []) as Comparison[]);
const devices = computed(() => ["phone", "desktop"].filter((d) => all.value.some((c) => c.device === d)));
const byPage = computed(() => all.value.filter((c) => c.page));
const states: Record<string, string> = { better: "clear", worse: "broken", "too noisy": "not checked" };
</script>

<template>
  <section class="stack">
    <p v-if="!over" class="small faded" role="status">
      {{ m.rounds }} {{ m.rounds === 1 ? "round" : "rounds" }} so far. It goes on until the main metrics are decided, 15
      at most.
    </p>
    <div v-for="d in devices" :key="d" class="sheet stack">
      <div class="spread">
        <h2>On a {{ d }}</h2>
        <span class="small faded">{{ m.profiles?.[d] }}</span>
      </div>
      <table class="tide">
        <thead>
          <tr>
            <th>Metric</th>
            <th>Before</th>
            <th>After</th>
            <th>Difference</th>
            <th class="scale"><span class="small">faster</span><span class="small right">slower</span></th>
            <th>What is shown</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="c in overall(all, d)" :key="c.metric">
            <th scope="row">{{ c.title }}</th>
            <td>{{ valueOf(c.unit, c.before) }}</td>
            <td>
              {{ valueOf(c.unit, c.after) }}<span v-if="c.rating" class="small faded">, {{ c.rating }}</span>
            </td>
            <td>
              {{ differenceOf(c.unit, c.shift)
              }}<span v-if="c.interval" class="small faded">
                ({{ differenceOf(c.unit, c.interval[0]!) }} to {{ differenceOf(c.unit, c.interval[1]!) }})</span
              >
            </td>
            <td class="scale">
              <span class="axis" aria-hidden="true">
                <template v-for="p in [place(c, reach(overall(all, d)))]" :key="p ? p.left : 0">
                  <span
                    v-if="p"
                    class="span"
                    :class="c.result.replace(/ /g, '-')"
                    :style="{ left: p.left + '%', width: p.width + '%' }"
                  />
                  <span v-if="p" class="tick" :style="{ left: p.at + '%' }" />
                </template>
              </span>
            </td>
            <td>
              <StateGlyph :state="states[c.result] ?? 'note'" :word="c.result || 'not decided yet'" />
              <span v-if="c.of && c.of > 1 && ['better', 'worse'].includes(c.result)" class="small faded pages">
                on {{ c.pages ?? 0 }} of {{ c.of }} pages</span
              >
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <details v-if="byPage.length">
      <summary>Page by page</summary>
      <table class="tide">
        <thead>
          <tr>
            <th>Page</th>
            <th>Device</th>
            <th>Metric</th>
            <th>Before</th>
            <th>After</th>
            <th>What is shown</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="c in byPage" :key="c.device + c.page + c.metric">
            <td>{{ c.page }}</td>
            <td>{{ c.device }}</td>
            <td>{{ c.title }}</td>
            <td>{{ valueOf(c.unit, c.before) }}</td>
            <td>{{ valueOf(c.unit, c.after) }}</td>
            <td>{{ c.result }}</td>
          </tr>
        </tbody>
      </table>
    </details>
    <p class="small faded">
      {{ m.rounds }} rounds, each page once with each of the settings, from an empty browser and from the page cache. A
      line is the interval in which the difference lies; it is called better or worse only beyond noise, corrected for
      how often and at how much was looked.
      <template v-if="(m.busy ?? []).length"
        >Rounds {{ (m.busy ?? []).join(", ") }} do not count: the machine was busy with something else.</template
      >
      <template v-for="w in m.dropped ?? []" :key="w"> Some loads do not count. {{ w }}</template>
    </p>
  </section>
</template>

<style scoped>
.pages {
  margin-left: 5px;
}
.scale {
  width: 15rem;
  position: relative;
}
.scale .right {
  float: right;
}
.axis {
  display: block;
  position: relative;
  height: 14px;
  background: linear-gradient(var(--rule-strong), var(--rule-strong)) center / 1px 100% no-repeat;
}
.span {
  position: absolute;
  top: 5px;
  height: 4px;
  background: var(--rule-strong);
}
.span.better {
  background: var(--clear);
}
.span.worse {
  background: var(--broken);
}
.tick {
  position: absolute;
  top: 1px;
  width: 2px;
  height: 12px;
  margin-left: -1px;
  background: var(--ink);
}
tbody th[scope="row"] {
  text-align: left;
  font: inherit;
  font-weight: 600;
  color: var(--ink);
  border-bottom: 1px solid var(--rule);
}
</style>
