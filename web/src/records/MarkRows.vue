<script setup lang="ts">
/** A site's marks: where it can be rolled back to. */
import InputText from "primevue/inputtext";
import AskState from "../shared/AskState.vue";
import Fingerprint from "../shared/Fingerprint.vue";
import PagedTable from "../shared/PagedTable.vue";
import type { PagedColumn } from "../shared/paged";
import StateGlyph from "../shared/StateGlyph.vue";
import When from "../shared/When.vue";
import { verdicts } from "../shared/wording";
import { useAsked } from "./asked";
import { useMarkRows } from "./queries";

const props = defineProps<{ site: number; environments: { id: number; name: string }[] }>();
const { q, environment, verdict, sort, down, first, size, asked, csv, filtered } = useAsked(() => props.site, "marks");
const { data, isPending, isFetching, error, refetch } = useMarkRows(() => props.site, asked);
const columns: PagedColumn[] = [
  { name: "id", title: "Mark", sort: "taken", first: true },
  { name: "environment", title: "Of", sort: "environment" },
  { name: "fingerprint", title: "Settings" },
  { name: "verdict", title: "Evidence", sort: "verdict" },
  { name: "reason", title: "Why" },
  { name: "by", title: "By", sort: "by" },
  { name: "takenAt", title: "When" },
];
</script>

<template>
  <form class="row filters-above" @submit.prevent>
    <InputText
      v-model="q"
      size="small"
      placeholder="Reason or fingerprint"
      aria-label="Part of the reason, or how the fingerprint begins"
    />
    <select v-model="verdict" aria-label="Verdict">
      <option value="">all verdicts</option>
      <option v-for="v in verdicts" :key="v" :value="v">{{ v }}</option>
    </select>
    <select v-model.number="environment" aria-label="Environment">
      <option :value="0">all environments</option>
      <option v-for="e in environments" :key="e.id" :value="e.id">{{ e.name }}</option>
    </select>
  </form>
  <AskState :pending="isPending" :error="error" what="The marks" @again="refetch()">
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
      :none="filtered ? 'No mark is like that.' : 'No mark was taken yet.'"
    >
      <template #id="{ row }"
        ><RouterLink :to="`/runs/${row.run}`" class="nowrap">Mark {{ row.id }}</RouterLink></template
      >
      <template #environment="{ row }">{{ row.environment }}</template>
      <template #fingerprint="{ row }"
        ><Fingerprint :value="row.fingerprint" /><StateGlyph v-if="row.inForce" state="clear" word="in force"
      /></template>
      <template #verdict="{ row }"
        ><StateGlyph :state="row.verdict" /><template v-if="row.evidenceGone"
          ><br /><span class="small faded">its evidence was removed</span></template
        ></template
      >
      <template #reason="{ row }">{{ row.reason }}</template>
      <template #by="{ row }">{{ row.by }}</template>
      <template #takenAt="{ row }"><When :at="row.takenAt" short /></template>
    </PagedTable>
  </AskState>
</template>
