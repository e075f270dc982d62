<script setup lang="ts" generic="Row extends object">
/**
 * A page of a list that the server filters, sorts and pages. A column's cell is the slot with its name. A plain table: the
 * interface library's takes a second for fifty rows of nine columns.
 */
import Paginator from "primevue/paginator";
import { computed } from "vue";
import type { PagedColumn } from "./paged";
import CsvFoot from "./CsvFoot.vue";
import { counted } from "./wording";

const props = defineProps<{
  rows: Row[];
  total: number;
  size: number;
  columns: PagedColumn[];
  rowKey: keyof Row;
  busy?: boolean;
  /** Where all rows that are meant can be had as CSV. */
  csv?: string;
  /** What is said when no row is like that. */
  none: string;
  /** The key of the row under which the slot “under” is shown. */
  opened?: Row[keyof Row];
}>();
const first = defineModel<number>("first", { required: true });
const sort = defineModel<string>("sort", { default: "" });
const down = defineModel<boolean>("down", { default: true });
defineSlots<Record<string, (p: { row: Row }) => unknown>>();

const now = computed(() => sort.value || props.columns.find((c) => c.first)?.sort);
const way = (c: PagedColumn) => (c.sort !== now.value ? "none" : down.value ? "descending" : "ascending");
function order(c: PagedColumn) {
  down.value = c.sort === now.value ? !down.value : c.first === true;
  sort.value = c.first ? "" : c.sort!;
  first.value = 0;
}
</script>

<template>
  <p v-if="!total" class="faded">{{ none }}</p>
  <template v-else>
    <table v-listed class="tide" :aria-busy="busy">
      <thead>
        <tr>
          <th v-for="c in columns" :key="c.name" :aria-sort="c.sort ? way(c) : undefined">
            <button v-if="c.sort" type="button" class="order" @click="order(c)">
              {{ c.title }}
              <span aria-hidden="true" class="way">{{ { none: "", ascending: "▲", descending: "▼" }[way(c)] }}</span>
            </button>
            <span v-else :class="{ 'visually-hidden': c.silent }">{{ c.title }}</span>
          </th>
        </tr>
      </thead>
      <tbody>
        <template v-for="row in rows" :key="String(row[rowKey])">
          <tr>
            <td v-for="c in columns" :key="c.name"><slot :name="c.name" :row="row" /></td>
          </tr>
          <tr v-if="opened === row[rowKey]">
            <td />
            <td :colspan="columns.length - 1"><slot name="under" :row="row" /></td>
          </tr>
        </template>
      </tbody>
      <CsvFoot v-if="!csv" />
    </table>
    <div class="row foot">
      <span class="small faded">{{ counted(total, "row") }}</span>
      <a v-if="csv" :href="csv" class="small" download>All of them as CSV</a>
      <Paginator
        v-if="total > size"
        v-model:first="first"
        :rows="size"
        :total-records="total"
        :page-link-size="5"
        template="PrevPageLink PageLinks NextPageLink CurrentPageReport"
        current-page-report-template="{first}–{last} of {totalRecords}"
      />
    </div>
  </template>
</template>

<style scoped>
.order {
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  padding: 2px 0;
  min-height: 24px;
  cursor: pointer;
  text-decoration: underline dotted;
  text-underline-offset: 3px;
}
.way {
  font-size: 0.7em;
}
.foot {
  margin-top: var(--s2);
  flex-wrap: wrap;
}
@media print {
  .foot a,
  .foot :deep(.p-paginator) {
    display: none;
  }
}
</style>
