<script setup lang="ts">
/** What a change did to speed, case by case and page by page, and what can be done with it. */
import Button from "primevue/button";
import { computed } from "vue";
import { useRouter } from "vue-router";
import { useMeasureActs } from "./queries";
import type { Run } from "../run/queries";
import { useSession } from "../api/session";
import BudgetTable from "./BudgetTable.vue";
import EffectTable from "./EffectTable.vue";
import { casesOf, resultOf, type Comparison } from "./measure";
import { counted, valueOf } from "../shared/wording";
import Trouble from "../shared/Trouble.vue";
import CsvFoot from "../shared/CsvFoot.vue";

const props = defineProps<{ run: Run }>();
const acts = useMeasureActs();
const router = useRouter();
const { may } = useSession();
const m = computed(() => props.run.measure!);
const over = computed(() => ["done", "stopped", "failed"].includes(props.run.state));
const all = computed(() => (m.value.comparisons ?? []) as Comparison[]);
const byPage = computed(() => all.value.filter((c) => c.page));
const levels = computed(() => m.value.levels ?? []);
const levelTitles = computed(() => [...new Set(levels.value.map((l) => l.title))]);
const levelRows = computed(() =>
  [...new Set(levels.value.map((l) => JSON.stringify([l.page, l.case])))].map((key) => {
    const [page, of] = JSON.parse(key) as [string, string];
    return {
      page,
      case: of,
      values: levelTitles.value.map((title) =>
        levels.value.find((l) => l.page === page && l.case === of && l.title === title),
      ),
    };
  }),
);
const formats = [
  { as: "pdf", label: "PDF" },
  { as: "html", label: "HTML" },
  { as: "csv", label: "CSV" },
  { as: "json", label: "JSON" },
  { as: "har", label: "HAR" },
  { as: "junit", label: "JUnit" },
  { as: "openmetrics", label: "OpenMetrics" },
];
</script>

<template>
  <section class="stack measured">
    <p v-if="!over" class="small faded" role="status">
      It goes on until the main metrics are decided, for {{ m.limit }} rounds at most.
    </p>
    <div v-if="over && (all.length || levels.length)" class="row">
      <RouterLink :to="`/runs/${run.id}/pages`">Pages in depth</RouterLink>
      <RouterLink :to="`/measurements?after=${run.id}`">Compare with another run</RouterLink>
      <span class="small"
        >Export as
        <template v-for="(f, i) in formats" :key="f.as"
          >{{ i ? ", " : "" }}<a :href="`/api/v1/runs/${run.id}/measured/export?format=${f.as}`">{{ f.label }}</a>
        </template></span
      >
      <Button
        v-if="run.kind === 'measure' && !m.sure && !m.before && run.state === 'done' && may('work')"
        size="small"
        outlined
        label="Measure more"
        :loading="acts.more.isPending.value"
        @click="acts.more.mutate(run.id, { onSuccess: (r) => router.push(`/runs/${r.id}`) })"
      />
      <Button
        v-else-if="run.kind === 'try' && run.change && may('work')"
        size="small"
        outlined
        label="Measure more"
        :loading="acts.measure.isPending.value"
        @click="
          acts.measure.mutate(
            { change: run.change, scope: { repeat: true, film: true } },
            { onSuccess: (r) => router.push(`/runs/${r.id}`) },
          )
        "
      />
    </div>
    <Trouble :error="acts.more.error.value ?? acts.measure.error.value" />
    <EffectTable
      v-for="c in casesOf(all)"
      :key="c"
      :comparisons="all"
      :of="c"
      :over="over"
      :profile="m.profiles?.[c.split(',')[0]!]"
    />
    <div v-if="!all.length && m.levels?.length" class="sheet">
      <h2>How fast it is</h2>
      <table v-listed class="tide">
        <thead>
          <tr>
            <th>Page</th>
            <th>Case</th>
            <th v-for="t in levelTitles" :key="t">{{ t }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="l in levelRows" :key="l.page + l.case">
            <td>{{ l.page }}</td>
            <td>{{ l.case }}</td>
            <td v-for="(v, i) in l.values" :key="i">
              <template v-if="v"
                >{{ valueOf(v.unit, v.median)
                }}<span v-if="v.rating" class="small faded">, {{ v.rating }}</span></template
              >
            </td>
          </tr>
        </tbody>
        <CsvFoot />
      </table>
    </div>
    <BudgetTable :budgets="m.budgets ?? []" />
    <details v-if="byPage.length">
      <summary>Page by page</summary>
      <table v-listed class="tide">
        <thead>
          <tr>
            <th>Page</th>
            <th>Case</th>
            <th>Metric</th>
            <th>Before</th>
            <th>After</th>
            <th>Result</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="c in byPage" :key="c.case + c.page + c.metric">
            <td>{{ c.page }}</td>
            <td>{{ c.case }}</td>
            <td>{{ c.title }}</td>
            <td>{{ valueOf(c.unit, c.before) }}</td>
            <td>{{ valueOf(c.unit, c.after) }}</td>
            <td>{{ resultOf(c, over) }}</td>
          </tr>
        </tbody>
        <CsvFoot />
      </table>
    </details>
    <p class="small faded">
      <template v-if="m.turns && all.length">
        {{ counted(m.rounds, "round") }}, each page with each of the settings in turn<template v-if="m.before"
          >; it went on from <RouterLink :to="`/runs/${m.before}`">run {{ m.before }}</RouterLink></template
        >. A line is the interval in which the difference lies, a dashed one where the metric stops being good. Better
        or worse is said only beyond noise, corrected for how often and at how much was looked.
      </template>
      <template v-else-if="over"
        >A few loads beside the looks, not in turn: enough for budgets, too few to call anything better or worse.
        Measure what a change does on the change's page.
      </template>
      <template v-if="(m.busy ?? []).length"
        >Rounds {{ (m.busy ?? []).join(", ") }} do not count: the machine was busy.</template
      >
      <template v-for="w in m.dropped ?? []" :key="w"> Some loads do not count. {{ w }}</template>
    </p>
  </section>
</template>

<style scoped>
.measured {
  margin-top: var(--s3);
}
</style>
