<script setup lang="ts">
/** What became of a site's budgets. */
import type { Schemas } from "../api/client";
import StateGlyph from "../shared/StateGlyph.vue";
import CsvFoot from "../shared/CsvFoot.vue";

defineProps<{ budgets: Schemas["BudgetResult"][] }>();
const states: Record<string, string> = { held: "clear", exceeded: "broken", "not sure": "unsure" };
</script>

<template>
  <section v-if="budgets.length" class="sheet stack">
    <h2>Budgets</h2>
    <table v-listed class="tide">
      <thead>
        <tr>
          <th>Budget</th>
          <th>Page</th>
          <th>Device</th>
          <th>Result</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="b in budgets" :key="b.budget + b.page + b.device">
          <td>{{ b.budget }}</td>
          <td>{{ b.page }}</td>
          <td>{{ b.device }}</td>
          <td>
            <StateGlyph :state="states[b.outcome] ?? 'note'" :word="b.outcome" />
            <span class="small faded"> {{ b.why }}<template v-if="b.was"> It was exceeded before, too.</template></span>
          </td>
        </tr>
      </tbody>
      <CsvFoot />
    </table>
  </section>
</template>
