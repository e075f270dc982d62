<script setup lang="ts">
/** A site's revisions; any two can be compared. */
import InputText from "primevue/inputtext";
import AskState from "../shared/AskState.vue";
import DifferenceTable from "../shared/DifferenceTable.vue";
import Fingerprint from "../shared/Fingerprint.vue";
import PagedTable from "../shared/PagedTable.vue";
import type { PagedColumn } from "../shared/paged";
import When from "../shared/When.vue";
import { textInAddress } from "../shared/address";
import { useAsked } from "./asked";
import { useRevisionRows, useRevisionsCompared } from "./queries";

const props = defineProps<{ site: number; environments: { id: number; name: string }[] }>();
const { q, environment, sort, down, first, size, asked, csv, filtered } = useAsked(() => props.site, "revisions");
const { data, isPending, isFetching, error, refetch } = useRevisionRows(() => props.site, asked);
const was = textInAddress("was");
const now = textInAddress("now");
const compared = useRevisionsCompared(() => props.site, was, now);
const columns: PagedColumn[] = [
  { name: "was", title: "From" },
  { name: "now", title: "To" },
  { name: "fingerprint", title: "Revision", sort: "fingerprint" },
  { name: "inForce", title: "In force on" },
  { name: "marks", title: "Marks" },
  { name: "createdAt", title: "First recorded", sort: "created", first: true },
  { name: "latestAt", title: "Last applied" },
];
</script>

<template>
  <form class="row filters-above" @submit.prevent>
    <InputText v-model="q" size="small" placeholder="Fingerprint begins with" aria-label="How the fingerprint begins" />
    <select v-model.number="environment" aria-label="Environment">
      <option :value="0">all, applied anywhere or nowhere</option>
      <option v-for="e in environments" :key="e.id" :value="e.id">applied to {{ e.name }}</option>
    </select>
    <span v-if="!was || !now" class="small faded">Choose two to compare them.</span>
  </form>
  <section v-if="was && now" class="sheet compared" aria-label="Comparison">
    <AskState
      :pending="compared.isPending.value"
      :error="compared.error.value"
      what="The comparison"
      @again="compared.refetch()"
    >
      <DifferenceTable
        v-if="compared.data.value"
        :differences="compared.data.value.differences"
        :before="was.slice(0, 8)"
        :after="now.slice(0, 8)"
      />
    </AskState>
  </section>
  <AskState :pending="isPending" :error="error" what="The revisions" @again="refetch()">
    <PagedTable
      v-if="data"
      v-model:first="first"
      v-model:sort="sort"
      v-model:down="down"
      :rows="data.rows"
      :total="data.total"
      :size="size"
      :columns="columns"
      row-key="fingerprint"
      :busy="isFetching"
      :csv="csv"
      :none="filtered ? 'No revision is like that.' : 'No settings were read yet.'"
    >
      <template #was="{ row }"
        ><input
          v-model="was"
          type="radio"
          name="was"
          :value="row.fingerprint"
          :aria-label="`From ${row.fingerprint.slice(0, 8)}`"
      /></template>
      <template #now="{ row }"
        ><input
          v-model="now"
          type="radio"
          name="now"
          :value="row.fingerprint"
          :aria-label="`To ${row.fingerprint.slice(0, 8)}`"
      /></template>
      <template #fingerprint="{ row }"><Fingerprint :value="row.fingerprint" /></template>
      <template #inForce="{ row }">{{ row.inForce.join(", ") }}</template>
      <template #marks="{ row }">{{ row.marks }}</template>
      <template #createdAt="{ row }"><When :at="row.createdAt" short /></template>
      <template #latestAt="{ row }"><When :at="row.latestAt" short /></template>
    </PagedTable>
  </AskState>
</template>

<style scoped>
.compared {
  margin: var(--s3) 0;
}
</style>
