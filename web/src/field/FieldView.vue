<script setup lang="ts">
/** A site over time, as its visitors had it. */
import { computed, ref } from "vue";
import { useField, type Asked } from "./queries";
import { useSite } from "../site/queries";
import AskState from "../shared/AskState.vue";
import BeaconPane from "./BeaconPane.vue";
import FieldChart from "./FieldChart.vue";
import SiteHead from "../site/SiteHead.vue";
import StateGlyph from "../shared/StateGlyph.vue";
import When from "../shared/When.vue";
import { parts } from "./field";
import { count, counted, differenceOf, valueOf } from "../shared/wording";
import CsvFoot from "../shared/CsvFoot.vue";

const props = defineProps<{ id: number }>();
const ask = ref<Asked>({ metric: "largest-contentful-paint", device: "phone", class: "", days: 90 });
const { data: site } = useSite(() => props.id);
const { data: v, isPending, error, refetch } = useField(() => props.id, ask);
const metrics: { value: Asked["metric"]; label: string }[] = [
  { value: "largest-contentful-paint", label: "largest paint" },
  { value: "interaction-delay", label: "interaction delay" },
  { value: "layout-shift", label: "layout shift" },
  { value: "first-contentful-paint", label: "first paint" },
  { value: "first-byte", label: "first byte" },
];
const spans = [30, 90, 180, 365];
const states: Record<string, string> = { good: "clear", "needs improvement": "unsure", poor: "broken" };
const results: Record<string, string> = { better: "clear", worse: "broken", "not enough data": "undecided" };
const percent = (p: number) => `${Math.round(100 * p)} %`;
const events = computed(() => [...(v.value?.events ?? [])].map((e, i) => ({ n: i + 1, e })).reverse());
</script>

<template>
  <AskState :pending="isPending" :error="error" what="Field data" @again="refetch()">
    <template v-if="v">
      <SiteHead :site="id" :name="site?.name ?? ''" here="Field data" />
      <div class="row choice">
        <label for="field-metric" class="small">Metric</label>
        <select id="field-metric" v-model="ask.metric">
          <option v-for="m in metrics" :key="m.value" :value="m.value">{{ m.label }}</option>
        </select>
        <label for="field-device" class="small">on</label>
        <select id="field-device" v-model="ask.device">
          <option value="phone">phones</option>
          <option value="desktop">desktops</option>
        </select>
        <label for="field-class" class="small">Pages</label>
        <select id="field-class" v-model="ask.class">
          <option value="">all</option>
          <option v-for="c in v.classes" :key="c.class" :value="c.class">{{ c.class }}</option>
        </select>
        <label for="field-span" class="small">Days</label>
        <select id="field-span" v-model.number="ask.days">
          <option v-for="n in spans" :key="n" :value="n">{{ n }}</option>
        </select>
      </div>
      <h1 v-if="v.lately" class="said">
        Three of four page views: {{ v.title }} within {{ valueOf(v.unit, v.lately.p75) }}
        <span class="small"
          ><StateGlyph v-if="v.lately.rating" :state="states[v.lately.rating] ?? 'note'" :word="v.lately.rating" />
          <span class="faded">
            · last 28 days, {{ count(v.lately.visits) }} page views, {{ valueOf(v.unit, v.lately.low) }} to
            {{ valueOf(v.unit, v.lately.high) }}</span
          ></span
        >
      </h1>
      <h1 v-else class="said">No page views in the last 28 days</h1>
      <div class="stack">
        <section v-if="v.days.length || v.file.length" class="sheet stack">
          <FieldChart :view="v" />
          <p class="small">
            <a :href="`/api/v1/sites/${id}/field/export?days=${ask.days}`">All days as CSV</a>, of every metric, device
            and class of pages
          </p>
          <details>
            <summary>The same as a table</summary>
            <table v-listed class="tide">
              <thead>
                <tr>
                  <th>Day</th>
                  <th>75th percentile</th>
                  <th>95 % interval</th>
                  <th>Page views</th>
                  <th>Good</th>
                  <th>Poor</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="d in [...v.days].reverse()" :key="d.day">
                  <td>{{ d.day }}</td>
                  <td>{{ valueOf(v.unit, d.p75) }}</td>
                  <td>{{ valueOf(v.unit, d.low) }} to {{ valueOf(v.unit, d.high) }}</td>
                  <td>{{ d.visits }}</td>
                  <td>{{ percent(parts(d).good) }}</td>
                  <td>{{ percent(parts(d).poor) }}</td>
                </tr>
              </tbody>
              <CsvFoot />
            </table>
          </details>
        </section>
        <section class="sheet stack">
          <h2>Promotions</h2>
          <p v-if="!events.length" class="small">None in these days.</p>
          <table v-else v-listed class="tide">
            <thead>
              <tr>
                <td></td>
                <th>When</th>
                <th>Change</th>
                <th>{{ v.title }} before and after</th>
                <th>Result</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="e in events" :key="e.n">
                <td>{{ e.n }}</td>
                <td><When :at="e.e.at" /></td>
                <td>
                  <RouterLink v-if="e.e.change" :to="`/changes/${e.e.change}`">{{ e.e.title }}</RouterLink><template
                    v-else
                    >{{ e.e.title || "settings" }}</template
                  >
                  <span v-if="e.e.kind === 'roll back'" class="small faded"> rolled back</span>
                </td>
                <td class="small">
                  <template v-if="e.e.effect.result !== 'not enough data'"
                    >{{ valueOf(v.unit, e.e.effect.before!.p75) }} → {{ valueOf(v.unit, e.e.effect.after!.p75) }}:
                    {{ differenceOf(v.unit, e.e.effect.shift) }}
                    <span class="faded"
                      >({{ differenceOf(v.unit, e.e.effect.low) }} to {{ differenceOf(v.unit, e.e.effect.high) }})</span
                    >,
                  </template>
                  {{ counted(e.e.days, "whole day") }} on each side
                </td>
                <td>
                  <StateGlyph :state="results[e.e.effect.result] ?? 'note'" :word="e.e.effect.result" />
                  <span v-if="e.e.effect.result === 'not enough data'" class="small faded"
                    >&nbsp;{{ e.e.effect.why }}</span
                  >
                </td>
              </tr>
            </tbody>
          </table>
        </section>
        <section v-if="v.classes.length" class="sheet stack">
          <h2>Page by page, the slowest first</h2>
          <table v-listed class="tide">
            <thead>
              <tr>
                <th>Pages</th>
                <th>75th percentile, last 28 days</th>
                <th>Page views</th>
                <th>Good</th>
                <th>Poor</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="c in v.classes" :key="c.class">
                <td>{{ c.class }}</td>
                <td>
                  {{ valueOf(v.unit, c.p75) }}
                  <StateGlyph v-if="c.rating" :state="states[c.rating] ?? 'note'" :word="c.rating" />
                </td>
                <td>{{ count(c.visits) }}</td>
                <td>{{ percent(parts(c).good) }}</td>
                <td>{{ percent(parts(c).poor) }}</td>
              </tr>
            </tbody>
            <CsvFoot />
          </table>
        </section>
        <BeaconPane :site="id" />
      </div>
    </template>
  </AskState>
</template>

<style scoped>
.choice {
  margin-bottom: var(--s2);
}
.said {
  margin-bottom: var(--s3);
}
.said .small {
  font: 0.88rem var(--text);
}
</style>
