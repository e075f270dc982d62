<script setup lang="ts">
/** The foot of a table, with a way to take it along as CSV. */
import { useTemplateRef } from "vue";
import { csv, rowsOf, saveCsv } from "./csv";

const foot = useTemplateRef("foot");
function save() {
  const table = foot.value?.closest("table");
  if (!table) return;
  const name = document.title.replace(/ · Tide Marker$/, "").replace(/[^\p{L}\p{N}]+/gu, "-");
  saveCsv(name, csv(rowsOf(table)));
}
</script>

<template>
  <tfoot ref="foot" class="csv">
    <tr>
      <td colspan="99"><button type="button" class="as-link small" @click="save">These rows as CSV</button></td>
    </tr>
  </tfoot>
</template>

<style scoped>
td {
  border: 0 !important;
}
@media print {
  tfoot {
    display: none;
  }
}
</style>
