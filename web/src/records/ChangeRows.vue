<script setup lang="ts">
/** A site's changes. */
import InputText from "primevue/inputtext";
import AskState from "../shared/AskState.vue";
import PagedTable from "../shared/PagedTable.vue";
import type { PagedColumn } from "../shared/paged";
import StateGlyph from "../shared/StateGlyph.vue";
import When from "../shared/When.vue";
import { changeStates } from "../shared/wording";
import { useAsked } from "./asked";
import { useChangeRows } from "./queries";

const props = defineProps<{ site: number; environments: { id: number; name: string }[] }>();
const { q, state, sort, down, first, size, asked, csv, filtered } = useAsked(() => props.site, "changes");
const { data, isPending, isFetching, error, refetch } = useChangeRows(() => props.site, asked);
const columns: PagedColumn[] = [
  { name: "title", title: "Change", sort: "title" },
  { name: "state", title: "State", sort: "state" },
  { name: "settings", title: "Settings" },
  { name: "runs", title: "Runs" },
  { name: "by", title: "By", sort: "by" },
  { name: "updatedAt", title: "Edited or moved", sort: "updated", first: true },
];
</script>

<template>
  <form class="row filters-above" @submit.prevent>
    <InputText v-model="q" size="small" placeholder="Title or reason" aria-label="Part of the title or reason" />
    <select v-model="state" aria-label="State">
      <option value="">all states</option>
      <option v-for="s in changeStates" :key="s" :value="s">{{ s }}</option>
    </select>
  </form>
  <AskState :pending="isPending" :error="error" what="The changes" @again="refetch()">
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
      :none="filtered ? 'No change is like that.' : 'There is no change yet.'"
    >
      <template #title="{ row }"
        ><RouterLink :to="`/changes/${row.id}`">{{ row.title }}</RouterLink></template
      >
      <template #state="{ row }"><StateGlyph :state="row.state" /></template>
      <template #settings="{ row }">{{ row.settings }}</template>
      <template #runs="{ row }">{{ row.runs }}</template>
      <template #by="{ row }">{{ row.by }}</template>
      <template #updatedAt="{ row }"><When :at="row.updatedAt" short /></template>
    </PagedTable>
  </AskState>
</template>
