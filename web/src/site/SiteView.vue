<script setup lang="ts">
import Button from "primevue/button";
import Dialog from "primevue/dialog";
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { useCalendar } from "../calendar/queries";
import { useSiteActs, useSite, type Environment } from "./queries";
import { unnamed } from "../change/naming";
import { useChangeActs } from "../change/queries";
import { useSession } from "../api/session";
import AskState from "../shared/AskState.vue";
import StepUpForm from "../change/StepUpForm.vue";
import Consequence from "../shared/Consequence.vue";
import DriftNotice from "./DriftNotice.vue";
import EnvironmentPane from "./EnvironmentPane.vue";
import ExportField from "./ExportField.vue";
import Rulers from "./Rulers.vue";
import SiteHead from "./SiteHead.vue";
import SiteLabels from "./SiteLabels.vue";
import StateGlyph from "../shared/StateGlyph.vue";
import Trouble from "../shared/Trouble.vue";
import UnknownNotice from "./UnknownNotice.vue";
import TermHint from "../shared/TermHint.vue";
import { counted } from "../shared/wording";

const props = defineProps<{ id: number }>();
const router = useRouter();
const { data: site, isPending, error, refetch } = useSite(() => props.id);
const acts = { ...useSiteActs(), ...useChangeActs() };
const { session, may } = useSession();

// What was frozen while what the rulers show happened, and now.
const from = new Date(Date.now() - 90 * 86_400_000);
const { data: calendar } = useCalendar(() => props.id, from, new Date(Date.now() + 86_400_000));

const steppingUp = ref(false);
/** A change begins with its settings; title and reason follow when there is something to say. */
async function begin() {
  const c = await acts.begin.mutateAsync({ site: props.id, title: unnamed, reason: "", effect: "" });
  await router.push(`/changes/${c.id}`);
}

const waitingAt = computed(() => {
  const s = site.value;
  if (s?.waitingFor === "change") return `/changes/${s.waitingId}`;
  if (s?.waitingFor === "run") return `/runs/${s.waitingId}`;
  if (s?.waitingFor === "rollout") return `/rollouts/${s.waitingId}`;
  return undefined;
});

const back = ref<{ env: Environment; mark: Environment["marks"][number] }>();
const asking = computed({ get: () => back.value !== undefined, set: (v) => !v && (back.value = undefined) });
async function goBack() {
  const r = await acts.goBack.mutateAsync({ env: back.value!.env.id, mark: back.value!.mark.id });
  await router.push(`/runs/${r.id}`);
}
async function mark(env: number) {
  const r = await acts.mark.mutateAsync(env);
  await router.push(`/runs/${r.id}`);
}
async function check(env: number) {
  const r = await acts.check.mutateAsync(env);
  await router.push(`/runs/${r.id}`);
}
const uploading = ref<Environment>();
const asked = computed({ get: () => uploading.value !== undefined, set: (v) => !v && (uploading.value = undefined) });
const file = ref("");
async function upload() {
  await acts.upload.mutateAsync({ env: uploading.value!.id, file: file.value });
  asked.value = false;
  file.value = "";
}
/** Environments that changes go through and that have nothing to go back to yet. */
const unmarked = computed(() => {
  const all = site.value?.environments.filter((e) => ["staging", "production"].includes(e.role)) ?? [];
  return all.every((e) => !e.marks.length && (e.able.reads || e.fingerprint)) ? all : [];
});
const markedRuns = ref<number[]>([]);
/** Both first marks in one act, staging first. */
async function markAll() {
  const runs: number[] = [];
  for (const e of unmarked.value) {
    try {
      runs.push((await acts.mark.mutateAsync(e.id)).id);
    } catch {
      break; // why stands above; what was begun is not taken back
    }
  }
  markedRuns.value = runs;
}
const trouble = computed(
  () =>
    acts.begin.error.value ??
    acts.mark.error.value ??
    acts.check.error.value ??
    acts.read.error.value ??
    acts.goBack.error.value,
);
const openChanges = computed(() => site.value?.changes.filter((c) => !["discarded"].includes(c.state)) ?? []);
</script>

<template>
  <AskState :pending="isPending" :error="error" what="The site" @again="refetch()">
    <template v-if="site">
      <SiteHead :site="id" :name="site.name" />
      <div class="spread">
        <h1>{{ site.name }}</h1>
        <div class="row next">
          <RouterLink v-if="waitingAt" :to="waitingAt" class="waits">{{ site.waiting }}</RouterLink>
          <span v-else-if="site.waiting" class="waits-plain">{{ site.waiting }}</span>
          <Button v-if="may('work')" outlined label="Step up" @click="steppingUp = true" />
          <Button v-if="may('work')" label="New change" :loading="acts.begin.isPending.value" @click="begin" />
        </div>
      </div>
      <SiteLabels :site="site.id" :labels="site.labels" />
      <Trouble :error="trouble" />
      <p v-if="session && !may('work')" class="small faded">
        As {{ session.role }} you can read everything and edit nothing; an administrator can give you another role.
      </p>
      <UnknownNotice v-for="e in site.environments.filter((x) => x.unknown)" :key="`u${e.id}`" :environment="e" />
      <DriftNotice v-for="e in site.environments.filter((x) => x.drift)" :key="e.id" :environment="e" />
      <p v-if="unmarked.length > 1 && may('work') && !markedRuns.length" class="first">
        <Button
          :label="`Take the first mark of ${unmarked.map((e) => e.name).join(' and ')}`"
          :loading="acts.mark.isPending.value"
          @click="markAll"
        />
        <span class="small">Nothing can be tried or promoted without a <TermHint of="mark">mark</TermHint>.</span>
      </p>
      <p v-if="markedRuns.length" role="status" class="small">
        Marks are being taken:
        <template v-for="(r, i) in markedRuns" :key="r"
          >{{ i ? ", " : "" }}<RouterLink :to="`/runs/${r}`">run {{ r }}</RouterLink></template
        >.
      </p>
      <section class="sheet chart">
        <Rulers :environments="site.environments" :calendar="calendar" />
      </section>
      <div class="columns">
        <EnvironmentPane
          v-for="e in site.environments"
          :key="e.id"
          :environment="e"
          :site="id"
          @mark="mark(e.id)"
          @check="check(e.id)"
          @read="acts.read.mutate(e.id)"
          @upload="uploading = e"
          @roll-back="(m) => (back = { env: e, mark: m })"
        />
        <section>
          <div class="spread">
            <h2>Changes</h2>
            <RouterLink :to="`/sites/${id}/changes`" class="small">All changes</RouterLink>
          </div>
          <p v-if="!openChanges.length" class="faded">None yet. A change starts from what is on production.</p>
          <ul class="plain-list">
            <li v-for="c in openChanges.slice(0, 6)" :key="c.id" class="change">
              <RouterLink :to="`/changes/${c.id}`">{{ c.title }}</RouterLink>
              <StateGlyph :state="c.state" />
              <p v-if="c.explanation" class="small faded">{{ c.explanation }}</p>
            </li>
          </ul>
        </section>
      </div>
      <p class="small faded foot">
        <RouterLink :to="`/sites/${id}/test-plan`"
          >{{ counted(site.pages, "page") }} and {{ counted(site.journeys, "journey") }} in the test plan</RouterLink
        >, as {{ site.personas.join(", ") }}. <RouterLink :to="`/sites/${id}/kept`">Retention</RouterLink>
      </p>
      <Consequence
        v-if="back"
        v-model="asking"
        :title="`Roll ${back.env.name} back to mark ${back.mark.id}`"
        :does="[
          `${back.env.name} gets the settings of ${back.mark.fingerprint.slice(0, 8)} and they are read back.`,
          'The page cache is purged, and the pages of the test plan are warmed.',
          'All pages and journeys are checked against the mark. It is done only when that is clear.',
        ]"
        loses="the settings in force now are no longer so; they stay recorded and can be put in force again."
        verb="Go back"
        :busy="acts.goBack.isPending.value"
        :error="acts.goBack.error.value"
        @go="goBack"
      />
      <Dialog
        v-model:visible="asked"
        modal
        :header="`Settings of ${uploading?.name}`"
        :style="{ width: '38rem' }"
        :draggable="false"
      >
        <form class="stack" @submit.prevent="upload">
          <ExportField v-model="file" name="export" label="The file that the site’s own administration exports" />
          <Trouble :error="acts.upload.error.value" />
          <Button type="submit" label="Upload" :disabled="!file.trim()" :loading="acts.upload.isPending.value" />
        </form>
      </Dialog>
      <Dialog
        v-model:visible="steppingUp"
        modal
        header="Step up through the bundles"
        :style="{ width: '40rem' }"
        :draggable="false"
      >
        <StepUpForm :site="id" @begun="(change) => router.push(`/changes/${change}`)" />
      </Dialog>
    </template>
  </AskState>
</template>

<style scoped>
.chart {
  margin: var(--s3) 0;
  padding: var(--s2) var(--s3);
}
.columns {
  display: grid;
  grid-template-columns: repeat(3, 1fr);
  gap: var(--s5);
}
.change {
  display: flex;
  gap: var(--s2);
  align-items: center;
  justify-content: space-between;
  border-bottom: 1px solid var(--rule);
  padding: 5px 0;
  min-height: 38px;
}
.change {
  flex-wrap: wrap;
}
.change p {
  flex-basis: 100%;
}
@media (min-width: 701px) {
  .next {
    flex-wrap: nowrap;
  }
}
.waits,
.waits-plain {
  font-family: var(--chart);
  font-style: italic;
  border-left: 4px solid var(--broken);
  padding-left: var(--s2);
}
.first {
  display: flex;
  gap: var(--s3);
  align-items: center;
  flex-wrap: wrap;
}
.foot {
  margin-top: var(--s3);
}
@media (max-width: 900px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
