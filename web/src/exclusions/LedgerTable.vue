<script setup lang="ts">
/** The ledger: what is excluded, why, for whom and until when; searched, edited in bulk, tried without. */
import { refDebounced } from "@vueuse/core";
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref, watch } from "vue";
import { useRouter } from "vue-router";
import { useExclusionActs, useLedger, type Entry, type LedgerFilter } from "./queries";
import { useSession } from "../api/session";
import AskState from "../shared/AskState.vue";
import EntryHistory from "./EntryHistory.vue";
import PagedTable from "../shared/PagedTable.vue";
import PrintButton from "../shared/PrintButton.vue";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";
import { flagInAddress, numberInAddress, oneInAddress, textInAddress } from "../shared/address";
import type { PagedColumn } from "../shared/paged";
import { calendarDay, counted } from "../shared/wording";

const props = defineProps<{ site: number }>();
const states = ["", "active", "proposed", "retired", "due"] as const satisfies readonly (LedgerFilter["state"] | "")[];
const { may } = useSession();
const router = useRouter();
const acts = useExclusionActs(() => props.site);

const q = textInAddress("q");
const asked = refDebounced(q, 250);
const state = oneInAddress("state", states, "");
const offset = numberInAddress("from");
const sort = oneInAddress("by", ["", "pattern", "reason", "state", "review", "who"] as const, "");
const up = flagInAddress("up");
const down = computed({ get: () => !up.value, set: (d) => (up.value = !d) });
const size = 50;
const columns: PagedColumn[] = [
  { name: "tick", title: "Tick", silent: true },
  { name: "pattern", title: "Pattern", sort: "pattern" },
  { name: "reason", title: "Why and for whom", sort: "reason" },
  { name: "state", title: "State", sort: "state" },
  { name: "review", title: "Review", sort: "review" },
  { name: "who", title: "By", sort: "who" },
  { name: "recorded", title: "Recorded", sort: "recorded", first: true },
];
const filter = computed<LedgerFilter>(() => ({
  q: asked.value || undefined,
  state: state.value || undefined,
  sort: sort.value || undefined,
  down: down.value,
  limit: size,
  offset: offset.value,
}));
const { data, isPending, isFetching, error, refetch } = useLedger(() => props.site, filter);

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
  <AskState :pending="isPending" :error="error" what="The exclusions" @again="refetch()">
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
        <span class="small faded">{{ counted(data.total, "entry", "entries") }}</span>
        <a :href="`/api/v1/sites/${site}/exclusions/export?format=json`" class="small" download>As JSON</a>
        <PrintButton />
      </div>
      <div v-if="ticked.length && may('work')" class="callout deep stack">
        <form class="row" @submit.prevent="edit">
          <b>{{ ticked.length }} ticked:</b>
          <InputText
            v-model="bulk.reason"
            size="small"
            placeholder="reason"
            aria-label="Reason for the ticked entries"
          />
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
      <PagedTable
        v-model:first="offset"
        v-model:sort="sort"
        v-model:down="down"
        :rows="data.entries"
        :total="data.total"
        :size="size"
        :columns="columns"
        row-key="id"
        :opened="opened"
        :busy="isFetching"
        :csv="`/api/v1/sites/${site}/exclusions/export?format=csv`"
        :none="
          q || state
            ? 'No entry is like that.'
            : 'Nothing is recorded yet. Explain the patterns above, or exclude something from a finding.'
        "
      >
        <template #tick="{ row: e }"
          ><input v-model="ticked" type="checkbox" :value="e.id" :aria-label="`Tick ${e.pattern}`"
        /></template>
        <template #pattern="{ row: e }">
          <code>{{ e.pattern }}</code>
          <p class="small faded">{{ e.title || e.key }}</p>
        </template>
        <template #reason="{ row: e }">
          {{ e.reason }}
          <p v-if="forWhom(e)" class="small faded">{{ forWhom(e) }}</p>
          <p v-if="e.trial" class="small">
            <RouterLink :to="`/changes/${e.trial.id}`">{{ e.trial.title }}</RouterLink>: {{ e.trialSays }}
          </p>
          <p v-if="e.retired" class="small faded">{{ e.retired }}</p>
        </template>
        <template #state="{ row: e }">
          <span aria-hidden="true">{{ marks[e.state] }}</span> {{ e.state === "active" ? "in force" : e.state }}
          <p v-if="e.state !== 'active' && e.inForce.length" class="small">on {{ e.inForce.join(", ") }}</p>
        </template>
        <template #review="{ row: e }">
          <span v-if="e.lookAgain" class="small nowrap" :class="{ due: e.due }"
            >{{ e.due ? "▲ since " : "" }}{{ calendarDay(e.lookAgain) }}</span
          >
        </template>
        <template #who="{ row: e }"
          ><span class="small">{{ e.who }}</span></template
        >
        <template #recorded="{ row: e }">
          <span class="small"><When :at="e.at" short /></span>
          <p class="small">
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
        </template>
        <template #under="{ row: e }"><EntryHistory :site="site" :entry="e.id" /></template>
      </PagedTable>
    </section>
  </AskState>
</template>

<style scoped>
code {
  overflow-wrap: anywhere;
}
/* What comes first in a cell begins where the cell does. */
p > .p-button:first-child {
  margin-left: -0.625rem;
}
.due {
  color: var(--unsure);
  font-weight: 600;
}
</style>
