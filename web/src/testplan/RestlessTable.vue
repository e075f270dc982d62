<script setup lang="ts">
/** What marks learned to change by themselves, and what a person said must be compared all the same. */
import Button from "primevue/button";
import { computed } from "vue";
import type { Schemas } from "../api/client";
import CsvFoot from "../shared/CsvFoot.vue";

const props = defineProps<{
  restless: Schemas["Restless"][];
  pages: Schemas["Page"][];
  mayEdit: boolean;
  busy: boolean;
}>();
const emit = defineEmits<{ pages: [pages: Schemas["Page"][]] }>();
const steady = computed(() => new Set(props.pages.flatMap((p) => (p.steady ?? []).map((s) => `${p.path} ${s}`))));
const isSteady = (r: Schemas["Restless"]) => (r.pages ?? []).every((p) => steady.value.has(`${p} ${r.path}`));
function say(r: Schemas["Restless"], must: boolean) {
  const on = new Set(r.pages ?? []);
  emit(
    "pages",
    props.pages.map((p) => {
      if (!on.has(p.path)) return p;
      const rest = (p.steady ?? []).filter((s) => s !== r.path);
      return { ...p, steady: must ? [...rest, r.path] : rest };
    }),
  );
}
const where = (pages: string[] | null) =>
  (pages?.length ?? 0) > 3 ? `${pages!.length} pages` : (pages ?? []).join(", ");
</script>

<template>
  <table v-if="restless.length" v-listed class="tide">
    <thead>
      <tr>
        <th>Part</th>
        <th>On</th>
        <th>Learned from the mark of</th>
        <th>In checks</th>
        <th><span class="visually-hidden">Actions</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="r in restless" :key="r.environment + r.path">
        <td>
          {{ r.name }} <span v-if="r.text" class="small faded">“{{ r.text.slice(0, 60) }}”</span><br />
          <code class="small faded">{{ r.path }}</code>
        </td>
        <td class="small" :title="(r.pages ?? []).join(', ')">{{ where(r.pages) }}</td>
        <td class="small">{{ r.environment }}</td>
        <td class="small">{{ isSteady(r) ? "compared" : "masked" }}</td>
        <td>
          <Button
            v-if="mayEdit"
            size="small"
            text
            :disabled="busy"
            :label="isSteady(r) ? 'Mask it' : 'Do not mask it'"
            :aria-label="`${r.name}: ${isSteady(r) ? 'mask it' : 'do not mask it'}`"
            @click="say(r, !isSteady(r))"
          />
        </td>
      </tr>
    </tbody>
    <CsvFoot />
  </table>
  <p v-else class="faded">No part that changes by itself has been found.</p>
</template>

<style scoped>
td {
  overflow-wrap: anywhere;
}
</style>
