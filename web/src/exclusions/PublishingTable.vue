<script setup lang="ts">
/** What was published to prove that pages show it, and how soon they did. */
import { computed } from "vue";
import { useProbes } from "../run/queries";
import StateGlyph from "../shared/StateGlyph.vue";
import { shown } from "../run/probes";
import Trouble from "../shared/Trouble.vue";
import CsvFoot from "../shared/CsvFoot.vue";

const props = defineProps<{ run: number }>();
const { data, error } = useProbes(() => props.run);
const rows = computed(() =>
  (data.value ?? [])
    .filter((p) => p.kind === "published")
    .sort(
      (a, b) =>
        (a.edit ?? "").localeCompare(b.edit ?? "") || a.page.localeCompare(b.page) || a.device.localeCompare(b.device),
    ),
);
</script>

<template>
  <Trouble :error="error" />
  <section v-if="rows.length" class="part stack">
    <h2>Published content shows in time</h2>
    <table v-listed class="tide">
      <thead>
        <tr>
          <th>Published</th>
          <th>Page</th>
          <th>Device</th>
          <th>Has to show</th>
          <th>Seen</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(p, i) in rows" :key="i">
          <td>{{ p.edit }}</td>
          <td>{{ p.page }}</td>
          <td>{{ p.device }}</td>
          <td class="small">{{ p.rule }}</td>
          <td>
            <StateGlyph :state="shown(p).state" :word="shown(p).words" />
            {{ " " }}
            <a v-if="p.second.body" :href="`/api/v1/blobs/${p.second.body}`" target="_blank" class="small">as text</a>
          </td>
        </tr>
      </tbody>
      <CsvFoot />
    </table>
  </section>
</template>

<style scoped>
.part {
  margin-top: var(--s5);
  border-top: 1px solid var(--rule-strong);
  padding-top: var(--s3);
}
</style>
