<script setup lang="ts">
/** All requests to prove that nobody is served what belongs to somebody else, and how it was answered. */
import { computed } from "vue";
import { useProbes } from "./queries";
import { asked } from "./probes";
import AskState from "../shared/AskState.vue";
import CsvFoot from "../shared/CsvFoot.vue";

const props = defineProps<{ run: number }>();
const { data, isPending, error, refetch } = useProbes(() => props.run);
type Probe = NonNullable<typeof data.value>[number];

const served: Record<string, string> = {
  cached: "from the cache",
  stale: "from the cache, stale",
  origin: "from the origin",
  bypass: "from the origin, cache bypassed",
  unknown: "unknown",
};
const byPage = computed(() => {
  const out = new Map<string, Probe[]>();
  for (const p of data.value ?? []) out.set(p.page, [...(out.get(p.page) ?? []), p]);
  return [...out].sort(([a], [b]) => a.localeCompare(b));
});
</script>

<template>
  <AskState :pending="isPending" :error="error" what="The requests" @again="refetch()">
    <p v-if="!byPage.length" class="faded">Nothing was asked without looking.</p>
    <table v-else v-listed class="tide">
      <thead>
        <tr>
          <th>Who asked</th>
          <th>Device</th>
          <th>The answer came</th>
          <th>Its headers say</th>
        </tr>
      </thead>
      <tbody v-for="[page, list] in byPage" :key="page">
        <tr>
          <th colspan="4" class="page">{{ page }} ({{ list[0]!.class }})</th>
        </tr>
        <tr v-for="(p, i) in list" :key="i">
          <td>{{ asked(p) }}</td>
          <td>{{ p.device }}</td>
          <td>
            {{ p.missing || served[p.second.served] }}
            <a v-if="p.second.body" :href="`/api/v1/blobs/${p.second.body}`" target="_blank" class="small">as text</a>
          </td>
          <td class="small">
            <code>{{ p.second.cacheNote }}</code>
          </td>
        </tr>
      </tbody>
      <CsvFoot />
    </table>
  </AskState>
</template>

<style scoped>
.page {
  padding-top: var(--s3) !important;
  color: var(--ink) !important;
}
</style>
