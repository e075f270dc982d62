<script setup lang="ts">
/** What a change did in one case: each metric before and after, by how much and how sure, on one scale. */
import { computed } from "vue";
import { overall, place, reach, resultOf, thresholdAt, type Comparison } from "./measure";
import { differenceOf, valueOf } from "../shared/wording";
import StateGlyph from "../shared/StateGlyph.vue";
import CsvFoot from "../shared/CsvFoot.vue";

const props = defineProps<{ comparisons: Comparison[]; of: string; profile?: string; over: boolean }>();
const rows = computed(() => overall(props.comparisons, props.of));
const far = computed(() => reach(rows.value));
const states: Record<string, string> = { better: "clear", worse: "broken", "too noisy": "not checked" };
</script>

<template>
  <div class="sheet stack">
    <div class="spread">
      <h2>On a {{ of }}</h2>
      <span class="small faded">{{ profile }}</span>
    </div>
    <table v-listed class="tide">
      <thead>
        <tr>
          <th>Metric</th>
          <th>Before</th>
          <th>After</th>
          <th>Difference</th>
          <th class="scale"><span class="small">faster</span><span class="small right">slower</span></th>
          <th>Result</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="c in rows" :key="c.metric">
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
              <template v-for="p in [place(c, far)]" :key="p ? p.left : 0">
                <span
                  v-if="p"
                  class="span"
                  :class="c.result.replace(/ /g, '-')"
                  :style="{ left: p.left + '%', width: p.width + '%' }"
                />
                <span v-if="p" class="tick" :style="{ left: p.at + '%' }" />
              </template>
              <span
                v-if="thresholdAt(c, far) !== undefined"
                class="good"
                :title="`good up to ${valueOf(c.unit, c.good!)}`"
                :style="{ left: thresholdAt(c, far) + '%' }"
              />
            </span>
          </td>
          <td>
            <StateGlyph :state="states[c.result] ?? 'note'" :word="resultOf(c, over)" />
            <span v-if="c.of && c.of > 1 && ['better', 'worse'].includes(c.result)" class="small faded pages">
              on {{ c.pages ?? 0 }} of {{ c.of }} pages</span
            >
          </td>
        </tr>
      </tbody>
      <CsvFoot />
    </table>
  </div>
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
.good {
  position: absolute;
  top: 0;
  height: 14px;
  border-left: 1px dashed var(--clear);
}
tbody th[scope="row"] {
  text-align: left;
  font: inherit;
  font-weight: 600;
  color: var(--ink);
  border-bottom: 1px solid var(--rule);
}
</style>
