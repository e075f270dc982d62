<script setup lang="ts">
/** Differences that people accepted for longer than one run. */
import Button from "primevue/button";
import type { Schemas } from "../api/client";
import When from "../shared/When.vue";
import { day } from "../shared/wording";
import CsvFoot from "../shared/CsvFoot.vue";

defineProps<{ decisions: Schemas["DecisionView"][]; mayEnd: boolean; busy: boolean }>();
const emit = defineEmits<{ end: [id: number] }>();
const where = (d: Schemas["DecisionView"]) =>
  d.of.page ? `${d.of.page} · ${d.of.device}${d.of.persona === "visitor" ? "" : ` · ${d.of.persona}`}` : "everywhere";
const until = (d: Schemas["DecisionView"]) => (d.until ? `until ${day(d.until)}` : "");
</script>

<template>
  <table v-listed class="tide">
    <thead>
      <tr>
        <th>Difference</th>
        <th>Where</th>
        <th>Until</th>
        <th>Why</th>
        <th><span class="visually-hidden">Actions</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="d in decisions" :key="d.id" :class="{ faded: !d.holds }">
        <td>
          <RouterLink v-if="d.run" :to="`/runs/${d.run}?finding=${d.finding}`">{{ d.of.title }}</RouterLink><template
            v-else
            >{{ d.of.title }}</template
          >
        </td>
        <td class="small">{{ where(d) }}</td>
        <td class="small">
          <template v-if="!d.holds">{{ d.endedBy ? `ended by ${d.endedBy}` : `over, ${until(d)}` }}</template>
          <template v-else-if="d.change"
            >in runs of <RouterLink :to="`/changes/${d.change}`">change {{ d.change }}</RouterLink></template
          >
          <template v-else>{{ until(d) }}</template>
        </td>
        <td class="small">
          {{ d.why }}<br /><span class="faded">{{ d.who }}, <When :at="d.madeAt" /></span>
        </td>
        <td>
          <Button
            v-if="mayEnd && d.holds"
            size="small"
            text
            label="No longer accept"
            :aria-label="`No longer accept: ${d.of.title}`"
            :disabled="busy"
            @click="emit('end', d.id)"
          />
        </td>
      </tr>
    </tbody>
    <CsvFoot />
  </table>
</template>

<style scoped>
td {
  overflow-wrap: anywhere;
}
</style>
