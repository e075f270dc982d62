<script setup lang="ts">
/** A change on its way to other sites: how far each is, what was found, what got faster, and what follows. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref } from "vue";
import { useRollout, useRolloutActs, type RolloutSite } from "./queries";
import { useSession } from "../api/session";
import { useAsking } from "../shared/asking";
import AskState from "../shared/AskState.vue";
import { after, stageOf, stands } from "./rollouts";
import SiteHead from "../site/SiteHead.vue";
import StateGlyph from "../shared/StateGlyph.vue";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";
import CsvFoot from "../shared/CsvFoot.vue";
import { counted } from "../shared/wording";

const props = defineProps<{ id: number }>();
const { may } = useSession();
const { data: rollout, isPending, error, refetch } = useRollout(() => props.id);
const acts = useRolloutActs();
const over = computed(() => rollout.value?.state === "ended");
const trouble = computed(
  () => acts.go.error.value ?? acts.stop.error.value ?? acts.end.error.value ?? acts.skip.error.value,
);
const waves = computed(() => [...new Set(rollout.value?.members.map((m) => m.wave) ?? [])]);
const inWave = (wave: number) => rollout.value?.members.filter((m) => m.wave === wave) ?? [];

const leaving = ref<RolloutSite>();
const why = ref("");
function leave(m: RolloutSite) {
  leaving.value = m;
  why.value = "";
}
async function skip() {
  await acts.skip.mutateAsync({ id: props.id, site: leaving.value!.site, reason: why.value.trim() });
  leaving.value = undefined;
}
const ask = useAsking();
const end = () =>
  ask({
    title: `End rollout ${props.id}?`,
    says: "No further site gets the change, and it cannot be continued. The changes it started stay as they are.",
    verb: "End it",
    go: () => acts.end.mutate(props.id),
  });
</script>

<template>
  <AskState :pending="isPending" :error="error" what="The rollout" @again="refetch()">
    <template v-if="rollout">
      <SiteHead :site="rollout.site" :name="rollout.name" :here="`Rollout ${rollout.id}`" />
      <h1>{{ rollout.title }}</h1>
      <p class="faded">
        From <RouterLink :to="`/changes/${rollout.change}`">the change that settled on {{ rollout.name }}</RouterLink
        >, to {{ counted(rollout.sites, "other site") }}, by {{ rollout.madeBy }}, <When :at="rollout.madeAt" />.
        <template v-if="rollout.reason">{{ rollout.reason }}</template>
      </p>
      <div class="callout deep state" :class="rollout.state" role="status">
        <p>
          <strong>{{ stands(rollout) }}</strong>
        </p>
        <p v-if="rollout.goneBy" class="small faded">
          Promoted in the name of {{ rollout.goneBy }}, who let it go <When :at="rollout.goneAt" />.
        </p>
      </div>
      <div v-if="may('work') && !over" class="row acts">
        <Button
          v-if="rollout.state !== 'going'"
          :label="rollout.state === 'stopped' ? `Continue with wave ${rollout.wave}` : `Promote wave ${rollout.wave}`"
          :disabled="!rollout.mayGo"
          :loading="acts.go.isPending.value"
          @click="acts.go.mutate(rollout.id)"
        />
        <Button
          v-else
          label="Stop after what is running"
          outlined
          :loading="acts.stop.isPending.value"
          @click="acts.stop.mutate(rollout.id)"
        />
        <Button text label="End the rollout" :loading="acts.end.isPending.value" @click="end" />
      </div>
      <p v-if="may('work') && !over && rollout.state !== 'going'" class="small faded">
        <template v-if="rollout.whyNot">{{ rollout.whyNot }}</template>
        <template v-else
          >Each site is promoted by its own rules: what was checked, approvals, the calendar. The next wave follows
          {{ after(rollout) }}.</template
        >
      </p>
      <Trouble :error="trouble" />
      <div class="scroll">
        <table v-listed class="tide">
          <thead>
            <tr>
              <th>Wave</th>
              <th>Site</th>
              <th>Progress</th>
              <th>On staging</th>
              <th>Speed</th>
              <th>On production</th>
              <th><span class="visually-hidden">Actions</span></th>
            </tr>
          </thead>
          <tbody v-for="w in waves" :key="w">
            <tr v-for="(m, i) in inWave(w)" :key="m.site" :class="{ now: w === rollout.wave && !over }">
              <th v-if="i === 0" :rowspan="inWave(w).length" scope="rowgroup" class="wave">{{ w }}</th>
              <td>
                <RouterLink :to="m.change ? `/changes/${m.change.id}` : `/sites/${m.site}`"
                  ><b>{{ m.name }}</b></RouterLink
                >
                <details v-if="m.without.length" class="small">
                  <summary>without {{ m.without.length }}</summary>
                  <ul class="plain-list">
                    <li v-for="u in m.without" :key="u.why">{{ u.why }}</li>
                  </ul>
                </details>
              </td>
              <td>
                <StateGlyph :state="stageOf(m).sign" :word="stageOf(m).word" />
                <p v-if="m.skipped" class="small">{{ m.skipped }}</p>
                <p v-else-if="m.said" class="small">{{ m.said }}</p>
              </td>
              <td>
                <template v-if="m.staging">
                  <StateGlyph :state="m.staging.verdict || m.staging.state" />
                  <p class="small">
                    <RouterLink :to="`/runs/${m.staging.id}`">{{ m.staging.summary }}</RouterLink>
                  </p>
                </template>
              </td>
              <td class="small">
                <RouterLink v-if="m.measured?.finishedAt" :to="`/runs/${m.measured.id}`">{{
                  m.measured.summary
                }}</RouterLink>
                <RouterLink v-else-if="m.measured" :to="`/runs/${m.measured.id}`">being measured</RouterLink>
                <span v-else class="faded">not measured</span>
              </td>
              <td>
                <template v-if="m.production">
                  <StateGlyph
                    :state="m.production.verdict || (m.production.finishedAt ? m.production.state : 'running')"
                    :word="m.production.verdict || m.production.state"
                  />
                  <p class="small">
                    <RouterLink :to="`/runs/${m.production.id}`">{{
                      m.production.summary || `run ${m.production.id}`
                    }}</RouterLink>
                  </p>
                </template>
              </td>
              <td>
                <Button
                  v-if="may('work') && !over && !['skipped', 'discarded', 'settled', 'has it all'].includes(m.stage)"
                  size="small"
                  text
                  label="Skip"
                  :aria-label="`Skip ${m.name}`"
                  @click="leave(m)"
                />
              </td>
            </tr>
          </tbody>
          <CsvFoot />
        </table>
      </div>
      <form v-if="leaving" class="sheet stack" aria-label="Skip a site" @submit.prevent="why.trim() && skip()">
        <label for="leave-why"
          >Why does the rollout continue without {{ leaving.name }}? Its change stays as it is.</label
        >
        <InputText id="leave-why" v-model="why" v-focus size="small" maxlength="2000" />
        <div class="row">
          <Button
            type="submit"
            size="small"
            :label="`Skip ${leaving.name}`"
            :disabled="!why.trim()"
            :loading="acts.skip.isPending.value"
          />
          <Button size="small" text label="Cancel" @click="leaving = undefined" />
        </div>
      </form>
    </template>
  </AskState>
</template>

<style scoped>
.state {
  margin: var(--s3) 0;
}
.state.stopped {
  border-color: var(--broken);
  background: var(--broken-wash);
}
.state.ended {
  border-color: var(--rule-strong);
  background: var(--blind-wash);
}
.acts {
  margin-bottom: var(--s2);
}
.scroll {
  overflow-x: auto;
}
td,
.wave {
  vertical-align: top;
  border-bottom: 1px solid var(--rule);
}
td p.small,
td.small {
  max-width: 22rem;
}
.now {
  background: var(--shoal);
}
</style>
