<script setup lang="ts">
/** The foot of a table, with a way to take it along as CSV. */
import { useTemplateRef } from "vue";
import { csv, rowsOf } from "./csv";

const foot = useTemplateRef("foot");
function save() {
  const table = foot.value?.closest("table");
  if (!table) return;
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([csv(rowsOf(table))], { type: "text/csv;charset=utf-8" }));
  link.download = `${document.title.replace(/ · Tide Marker$/, "").replace(/[^\p{L}\p{N}]+/gu, "-")}.csv`;
  link.click();
  URL.revokeObjectURL(link.href);
}
</script>

<template>
  <tfoot ref="foot" class="csv">
    <tr>
      <td colspan="99"><button type="button" class="small" @click="save">These rows as CSV</button></td>
    </tr>
  </tfoot>
</template>

<style scoped>
td {
  border: 0 !important;
}
button {
  font: inherit;
  font-size: 0.82rem;
  min-height: 24px;
  padding: 0;
  border: 0;
  background: none;
  color: var(--deep);
  text-decoration: underline;
  text-underline-offset: 3px;
  cursor: pointer;
}
@media print {
  tfoot {
    display: none;
  }
}
</style>
