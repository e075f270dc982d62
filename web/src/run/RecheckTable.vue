<script setup lang="ts">
/** Looks that a run planned, for when what is cached has grown old. */
import CsvFoot from "../shared/CsvFoot.vue";
import When from "../shared/When.vue";
import type { Run } from "./queries";

defineProps<{ rechecks: NonNullable<Run["rechecks"]> }>();
const states: Record<string, string> = { planned: "planned", begun: "looked", withdrawn: "withdrawn" };
</script>

<template>
  <section>
    <h2>Rechecks</h2>
    <table v-listed class="tide">
      <thead>
        <tr>
          <th>When</th>
          <th>Why</th>
          <th>State</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="l in rechecks" :key="l.dueAt">
          <td><When :at="l.dueAt" /></td>
          <td>
            {{ l.about.why }}<br /><span class="small faded">{{ (l.about.pages ?? []).join(", ") }}</span>
          </td>
          <td>
            <RouterLink v-if="l.run" :to="`/runs/${l.run}`">Recheck {{ l.run }}</RouterLink
            ><template v-else>{{ states[l.state] }}</template
            ><span v-if="l.why" class="small faded">: {{ l.why }}</span>
          </td>
        </tr>
      </tbody>
      <CsvFoot />
    </table>
  </section>
</template>
