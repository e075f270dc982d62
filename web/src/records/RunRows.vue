<script setup lang="ts">
/** A site's runs; two that are ticked can be compared. */
import InputText from "primevue/inputtext";
import { ref } from "vue";
import AskState from "../shared/AskState.vue";
import PagedTable from "../shared/PagedTable.vue";
import type { PagedColumn } from "../shared/paged";
import StateGlyph from "../shared/StateGlyph.vue";
import When from "../shared/When.vue";
import { runKinds, span, verdicts } from "../shared/wording";
import { useAsked } from "./asked";
import { useRunRows } from "./queries";

const props = defineProps<{ site: number; environments: { id: number; name: string }[] }>();
const { q, environment, kind, verdict, sort, down, first, size, asked, csv, filtered } = useAsked(
  () => props.site,
  "runs",
);
const { data, isPending, isFetching, error, refetch } = useRunRows(() => props.site, asked);
const columns: PagedColumn[] = [
  { name: "tick", title: "Tick to compare", silent: true },
  { name: "id", title: "Run", sort: "created", first: true },
  { name: "environment", title: "On", sort: "environment" },
  { name: "verdict", title: "Verdict", sort: "verdict" },
  { name: "summary", title: "What it came to" },
  { name: "change", title: "Change" },
  { name: "seconds", title: "Took", sort: "seconds" },
  { name: "by", title: "By", sort: "by" },
  { name: "createdAt", title: "When" },
];
const ticked = ref<number[]>([]);
/** The two latest that were ticked. */
function tick(id: number) {
  ticked.value = ticked.value.includes(id) ? ticked.value.filter((t) => t !== id) : [...ticked.value, id].slice(-2);
}
</script>

<template>
  <form class="row filters-above" @submit.prevent>
    <InputText
      v-model="q"
      size="small"
      placeholder="Summary or change"
      aria-label="Part of the summary or the change"
    />
    <select v-model="kind" aria-label="Kind">
      <option value="">all kinds</option>
      <option v-for="(title, k) in runKinds" :key="k" :value="k">{{ title }}</option>
    </select>
    <select v-model="verdict" aria-label="Verdict">
      <option value="">all verdicts</option>
      <option v-for="v in verdicts" :key="v" :value="v">{{ v }}</option>
    </select>
    <select v-model.number="environment" aria-label="Environment">
      <option :value="0">all environments</option>
      <option v-for="e in environments" :key="e.id" :value="e.id">{{ e.name }}</option>
    </select>
    <RouterLink v-if="ticked.length === 2" :to="`/runs/${ticked[1]}/compare?with=${ticked[0]}`"
      >Compare run {{ ticked[0] }} with run {{ ticked[1] }}</RouterLink
    >
    <span v-else class="small faded">Tick two to compare them.</span>
  </form>
  <AskState :pending="isPending" :error="error" what="The runs" @again="refetch()">
    <PagedTable
      v-if="data"
      v-model:first="first"
      v-model:sort="sort"
      v-model:down="down"
      :rows="data.rows"
      :total="data.total"
      :size="size"
      :columns="columns"
      row-key="id"
      :busy="isFetching"
      :csv="csv"
      :none="filtered ? 'No run is like that.' : 'There was no run yet.'"
    >
      <template #tick="{ row }"
        ><input
          type="checkbox"
          :checked="ticked.includes(row.id)"
          :aria-label="`Compare run ${row.id}`"
          @change="tick(row.id)"
      /></template>
      <template #id="{ row }"
        ><RouterLink :to="`/runs/${row.id}`" class="nowrap">{{ runKinds[row.kind] }} {{ row.id }}</RouterLink></template
      >
      <template #environment="{ row }">{{ row.environment }}</template>
      <template #verdict="{ row }"><StateGlyph :state="row.verdict || row.state" /></template>
      <template #summary="{ row }">{{ row.summary }}</template>
      <template #change="{ row }"
        ><RouterLink v-if="row.change" :to="`/changes/${row.change}`">{{ row.changeTitle }}</RouterLink></template
      >
      <template #seconds="{ row }"
        ><span class="nowrap">{{ row.seconds === null ? "" : span(Math.round(row.seconds)) }}</span></template
      >
      <template #by="{ row }">{{ row.by }}</template>
      <template #createdAt="{ row }"><When :at="row.createdAt" short /></template>
    </PagedTable>
  </AskState>
</template>
