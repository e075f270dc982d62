<script setup lang="ts">
/** The ledger: what is excluded, why, for whom and until when; searched, edited in bulk, tried without. */
import { refDebounced } from "@vueuse/core";
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref, watch } from "vue";
import { useRouter } from "vue-router";
import { useExclusionActs, useLedger, type Entry, type LedgerFilter } from "./queries";
import { useSession } from "../api/session";
import EntryHistory from "./EntryHistory.vue";
import PrintButton from "../shared/PrintButton.vue";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";
import { numberInAddress, oneInAddress, textInAddress } from "../shared/address";

const props = defineProps<{ site: number }>();
const states = ["", "active", "proposed", "retired", "due"] as const satisfies readonly (LedgerFilter["state"] | "")[];
const { may } = useSession();
const router = useRouter();
const acts = useExclusionActs(() => props.site);

const q = textInAddress("q");
const asked = refDebounced(q, 250);
const state = oneInAddress("state", states, "");
const offset = numberInAddress("from");
const size = 50;
const filter = computed<LedgerFilter>(() => ({
  q: asked.value || undefined,
  state: state.value || undefined,
  limit: size,
  offset: offset.value,
}));
const { data } = useLedger(() => props.site, filter);

const ticked = ref<number[]>([]);
// What is not on the screen is not changed with what is.
watch(filter, () => (ticked.value = []));
const opened = ref(0);
const bulk = ref({ reason: "", lookAgain: "", classes: "", personas: "" });
const why = ref("");
const words = (s: string) => s.split(",").flatMap((w) => w.trim() || []);

async function edit() {
  const b = bulk.value;
  await acts.edit.mutateAsync({
    ids: ticked.value,
    reason: b.reason.trim() || undefined,
    lookAgain: b.lookAgain || undefined,
    classes: b.classes ? words(b.classes) : undefined,
    personas: b.personas ? words(b.personas) : undefined,
  });
  bulk.value = { reason: "", lookAgain: "", classes: "", personas: "" };
  ticked.value = [];
}
async function retire() {
  await acts.retire.mutateAsync({ ids: ticked.value, why: why.value });
  why.value = "";
  ticked.value = [];
}
async function trial() {
  const c = await acts.trial.mutateAsync(ticked.value);
  await router.push(`/changes/${c.id}`);
}
const marks = { active: "●", proposed: "○", retired: "—" } as const;
const forWhom = (e: Entry) =>
  [e.classes.join(", "), e.personas.join(", "), e.environments.length ? `on ${e.environments.join(", ")}` : ""]
    .filter(Boolean)
    .join(" · ");
</script>

<template>
  <section v-if="data" class="stack" aria-label="Exclusions">
    <div class="row">
      <InputText
        v-model="q"
        size="small"
        placeholder="Search patterns and reasons"
        aria-label="Search the exclusions"
        @input="offset = 0"
      />
      <select v-model="state" aria-label="Which entries" @change="offset = 0">
        <option value="">all entries</option>
        <option value="active">in force</option>
        <option value="proposed">proposed</option>
        <option value="retired">retired</option>
        <option value="due">review due ({{ data.due }})</option>
      </select>
      <span class="small faded">{{ data.total === 1 ? "1 entry" : `${data.total} entries` }}</span>
      <a :href="`/api/v1/sites/${site}/exclusions/export?format=csv`" class="small" download>As CSV</a>
      <a :href="`/api/v1/sites/${site}/exclusions/export?format=json`" class="small" download>As JSON</a>
      <PrintButton />
    </div>
    <div v-if="ticked.length && may('work')" class="bulk stack">
      <form class="row" @submit.prevent="edit">
        <b>{{ ticked.length }} ticked:</b>
        <InputText v-model="bulk.reason" size="small" placeholder="reason" aria-label="Reason for the ticked entries" />
        <InputText
          v-model="bulk.classes"
          size="small"
          placeholder="page classes"
          aria-label="Page classes they protect"
        />
        <InputText v-model="bulk.personas" size="small" placeholder="personas" aria-label="Personas they protect" />
        <label for="look-again" class="small">review on</label>
        <input id="look-again" v-model="bulk.lookAgain" type="date" />
        <Button type="submit" size="small" label="Set" :loading="acts.edit.isPending.value" />
      </form>
      <form class="row" @submit.prevent="retire">
        <Button
          size="small"
          outlined
          label="Try staging without them"
          :loading="acts.trial.isPending.value"
          @click="trial"
        />
        <InputText
          v-model="why"
          size="small"
          placeholder="why they are no longer needed"
          aria-label="Why to retire them"
        />
        <Button
          type="submit"
          size="small"
          outlined
          label="Retire"
          :disabled="!why.trim()"
          :loading="acts.retire.isPending.value"
        />
      </form>
      <Trouble :error="acts.edit.error.value ?? acts.trial.error.value ?? acts.retire.error.value" />
    </div>
    <p v-if="!data.entries.length" class="faded">
      {{
        q || state
          ? "No entry is like that."
          : "Nothing is recorded yet. Explain the patterns above, or exclude something from a finding."
      }}
    </p>
    <table v-else v-listed class="tide">
      <thead>
        <tr>
          <th><span class="visually-hidden">Tick</span></th>
          <th>Pattern</th>
          <th>Why and for whom</th>
          <th>State</th>
          <th>By</th>
        </tr>
      </thead>
      <tbody v-for="e in data.entries" :key="e.id">
        <tr>
          <td><input v-model="ticked" type="checkbox" :value="e.id" :aria-label="`Tick ${e.pattern}`" /></td>
          <td>
            <code>{{ e.pattern }}</code>
            <p class="small faded">{{ e.title || e.key }}</p>
          </td>
          <td>
            {{ e.reason }}
            <p v-if="forWhom(e)" class="small faded">{{ forWhom(e) }}</p>
            <p v-if="e.trial" class="small">
              <RouterLink :to="`/changes/${e.trial.id}`">{{ e.trial.title }}</RouterLink>: {{ e.trialSays }}
            </p>
            <p v-if="e.retired" class="small faded">{{ e.retired }}</p>
          </td>
          <td>
            <span aria-hidden="true">{{ marks[e.state] }}</span> {{ e.state === "active" ? "in force" : e.state }}
            <p v-if="e.state !== 'active' && e.inForce.length" class="small">on {{ e.inForce.join(", ") }}</p>
            <p v-if="e.lookAgain" class="small" :class="{ due: e.due }">
              {{ e.due ? "▲ look again, since" : "look again" }} {{ e.lookAgain }}
            </p>
          </td>
          <td class="small">
            {{ e.who }}, <When :at="e.at" short />
            <p>
              <RouterLink v-if="e.change" :to="`/changes/${e.change}`">change {{ e.change }}</RouterLink>
              <template v-if="e.run"
                >, <RouterLink :to="`/runs/${e.run}?finding=${e.finding}`">evidence</RouterLink></template
              >
              <Button
                size="small"
                text
                :label="opened === e.id ? 'Hide' : 'History'"
                :aria-label="`History of ${e.pattern}`"
                @click="opened = opened === e.id ? 0 : e.id"
              />
            </p>
          </td>
        </tr>
        <tr v-if="opened === e.id">
          <td />
          <td colspan="4"><EntryHistory :site="site" :entry="e.id" /></td>
        </tr>
      </tbody>
    </table>
    <div v-if="data.total > size" class="row">
      <Button size="small" text label="Earlier" :disabled="!offset" @click="offset = Math.max(0, offset - size)" />
      <span class="small">{{ offset + 1 }}–{{ Math.min(offset + size, data.total) }} of {{ data.total }}</span>
      <Button size="small" text label="Later" :disabled="offset + size >= data.total" @click="offset += size" />
    </div>
  </section>
</template>

<style scoped>
.bulk {
  border-left: 4px solid var(--deep);
  background: var(--shoal);
  padding: var(--s2) var(--s3);
}
code {
  overflow-wrap: anywhere;
}
.due {
  color: var(--unsure);
  font-weight: 600;
}
</style>
