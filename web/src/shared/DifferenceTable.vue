<script setup lang="ts">
/** Settings that differ between two revisions. */
import type { Schemas } from "../api/client";
import CsvFoot from "./CsvFoot.vue";

defineProps<{ differences: Schemas["DifferenceView"][]; before: string; after: string }>();
</script>

<template>
  <p v-if="!differences.length" class="faded">No setting differs.</p>
  <table v-else v-listed class="tide">
    <thead>
      <tr>
        <th>Setting</th>
        <th>{{ before }}</th>
        <th>{{ after }}</th>
        <th>Can break</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="d in differences" :key="d.key">
        <td>
          <b>{{ d.title }}</b> <code class="small">{{ d.key }}</code>
        </td>
        <td>{{ d.fromText }}</td>
        <td>
          <b>{{ d.toText }}</b>
        </td>
        <td class="small">
          <span class="risk" aria-hidden="true">{{ "▾".repeat(d.risk) }}</span> {{ d.riskText }}
        </td>
      </tr>
    </tbody>
    <CsvFoot />
  </table>
</template>

<style scoped>
.risk {
  color: var(--unsure);
}
td {
  overflow-wrap: anywhere;
}
</style>
