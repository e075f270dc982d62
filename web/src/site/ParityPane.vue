<script setup lang="ts">
/** Whether staging is so much like production that a check there proves something. */
import Button from "primevue/button";
import { computed } from "vue";
import { useCompare, useParity } from "./settings";
import { useSession } from "../api/session";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";
import CsvFoot from "../shared/CsvFoot.vue";

const props = defineProps<{ site: number }>();
const { may } = useSession();
const { data, error, isPending } = useParity(() => props.site);
const compare = useCompare();

const kinds = { host: "Host", catalogue: "Available settings", files: "Scripts and styles", pages: "Pages" } as const;
type Kind = keyof typeof kinds;
const weighty = computed(() => (data.value?.unlike ?? []).filter((u) => u.weighs));
const grouped = computed(() =>
  (Object.keys(kinds) as Kind[])
    .map((k) => ({ kind: kinds[k], list: weighty.value.filter((u) => u.what === k) }))
    .filter((g) => g.list.length),
);
</script>

<template>
  <p v-if="isPending" class="small faded" aria-busy="true">Reading how staging differs from production …</p>
  <Trouble v-if="!data" :error="error" />
  <section v-if="data" class="parity" aria-label="How staging differs from production">
    <div class="row">
      <p v-if="data.at">
        <b>{{ data.summary }}</b>
        <span class="small faded"> Compared <When :at="data.at" short />.</span>
        <template v-if="weighty.length">
          Where they differ in more than values, a check on staging proves little.</template
        >
      </p>
      <p v-else>Staging and production have not been compared yet; a check on a staging that differs proves little.</p>
      <Button
        v-if="may('work')"
        size="small"
        text
        :label="data.at ? 'Compare again' : 'Compare them'"
        :loading="compare.isPending.value"
        @click="compare.mutate(site)"
      />
    </div>
    <Trouble :error="compare.error.value" />
    <p v-for="n in data.notes" :key="n" class="small faded">{{ n }}</p>
    <details v-if="weighty.length">
      <summary>What differs</summary>
      <table v-listed class="tide">
        <thead>
          <tr>
            <th>What</th>
            <th>staging</th>
            <th>production</th>
          </tr>
        </thead>
        <tbody v-for="g in grouped" :key="g.kind">
          <tr>
            <th colspan="3">{{ g.kind }}</th>
          </tr>
          <tr v-for="u in g.list" :key="u.of">
            <td>{{ u.of }}</td>
            <td>{{ u.first }}</td>
            <td>{{ u.last }}</td>
          </tr>
        </tbody>
        <CsvFoot />
      </table>
    </details>
  </section>
</template>

<style scoped>
.parity {
  border-top: 1px solid var(--rule);
  border-bottom: 1px solid var(--rule);
  padding: var(--s2) 0;
  margin: var(--s2) 0;
}
.parity .row {
  justify-content: space-between;
}
.parity p {
  margin: 0;
}
</style>
