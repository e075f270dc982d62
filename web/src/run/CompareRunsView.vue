<script setup lang="ts">
/** Two runs of a site, compared: what one found and the other did not, and which settings differ. */
import { computed } from "vue";
import { useSite } from "../site/queries";
import { numberInAddress } from "../shared/address";
import AskState from "../shared/AskState.vue";
import CsvFoot from "../shared/CsvFoot.vue";
import DifferenceTable from "../shared/DifferenceTable.vue";
import PrintButton from "../shared/PrintButton.vue";
import StateGlyph from "../shared/StateGlyph.vue";
import { short } from "../shared/wording";
import SiteHead from "../site/SiteHead.vue";
import { kindNames } from "./findings";
import { useRun, useRunsCompared } from "./queries";

const props = defineProps<{ id: number }>();
const other = numberInAddress("with");
const { data: run, isPending, error, refetch } = useRun(() => props.id);
const { data: site } = useSite(
  () => run.value?.site ?? 0,
  () => !!run.value,
);
const compared = useRunsCompared(() => props.id, other);
/** The latest runs that found anything out, to choose from; an older one is named by the address. */
const others = computed(() =>
  (site.value?.environments ?? [])
    .flatMap((e) => e.runs.map((r) => ({ ...r, environment: e.name })))
    .filter((r) => r.finishedAt && r.id !== props.id && !["measure", "culprit search"].includes(r.kind))
    .sort((a, b) => b.id - a.id),
);
const parts = computed(() => {
  const c = compared.data.value;
  if (!c) return [];
  return [
    { title: "Gone", says: `only in run ${c.first.id}`, run: c.first.id, findings: c.gone },
    { title: "New", says: `only in run ${c.second.id}`, run: c.second.id, findings: c.came },
    { title: "In both", says: "", run: c.second.id, findings: c.both },
  ];
});
</script>

<template>
  <AskState :pending="isPending" :error="error" what="The run" @again="refetch()">
    <template v-if="run">
      <SiteHead :site="run.site" :name="run.siteName" :here="`Run ${run.id}, compared`" />
      <div class="row">
        <h1>
          Run <RouterLink :to="`/runs/${run.id}`">{{ run.id }}</RouterLink> compared with run
        </h1>
        <select v-model.number="other" aria-label="The other run">
          <option :value="0">choose one</option>
          <option v-if="other && !others.some((r) => r.id === other)" :value="other">{{ other }}</option>
          <option v-for="r in others" :key="r.id" :value="r.id">
            {{ r.id }}: {{ r.kind }}, {{ r.environment }}, {{ short(r.finishedAt!) }}
          </option>
        </select>
        <PrintButton />
      </div>
      <AskState
        v-if="other"
        :pending="compared.isPending.value"
        :error="compared.error.value"
        what="The comparison"
        @again="compared.refetch()"
      >
        <template v-if="compared.data.value">
          <section class="part">
            <h2>Settings</h2>
            <p v-if="compared.data.value.unread" class="faded">
              It is not recorded which settings one of them saw, so nothing is said of differences.
            </p>
            <DifferenceTable
              v-else
              :differences="compared.data.value.differences"
              :before="`Run ${compared.data.value.first.id}`"
              :after="`Run ${compared.data.value.second.id}`"
            />
          </section>
          <section v-for="p in parts" :key="p.title" class="part">
            <h2>
              {{ p.title }} ({{ p.findings.length }}) <span class="small faded says">{{ p.says }}</span>
            </h2>
            <p v-if="!p.findings.length" class="faded">No finding.</p>
            <table v-else v-listed class="tide">
              <thead>
                <tr>
                  <th>Finding</th>
                  <th>Kind</th>
                  <th>Page</th>
                  <th>For</th>
                  <th>State</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="f in p.findings" :key="f.id">
                  <td>
                    <RouterLink :to="`/runs/${p.run}?finding=${f.id}`">{{ f.title }}</RouterLink>
                  </td>
                  <td>{{ kindNames[f.kind] ?? f.kind }}</td>
                  <td>{{ f.page }}</td>
                  <td>{{ f.persona }} on {{ f.device }}</td>
                  <td><StateGlyph :state="f.state === 'accepted' ? 'accepted' : f.severity" /></td>
                </tr>
              </tbody>
              <CsvFoot />
            </table>
          </section>
        </template>
      </AskState>
    </template>
  </AskState>
</template>

<style scoped>
.part {
  margin-top: var(--s4);
}
.says {
  font-family: var(--text);
  font-style: normal;
  font-weight: 400;
}
</style>
