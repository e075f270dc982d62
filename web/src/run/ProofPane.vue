<script setup lang="ts">
/** What one finding rests on, and what can be done about it. */
import Button from "primevue/button";
import Dialog from "primevue/dialog";
import InputText from "primevue/inputtext";
import Textarea from "primevue/textarea";
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { useChangeActs } from "../change/queries";
import { useRunActs, useProof, type Finding, type Run } from "./queries";
import { useSession } from "../api/session";
import AcceptDialog from "./AcceptDialog.vue";
import AskState from "../shared/AskState.vue";
import { canMask, type Reach } from "./decisions";
import CommentList from "../shared/CommentList.vue";
import MaskDialog from "./MaskDialog.vue";
import { kindNames } from "./findings";
import PicturePair from "./PicturePair.vue";
import ProbeAnswers from "./ProbeAnswers.vue";
import RequestTable from "./RequestTable.vue";
import StateGlyph from "../shared/StateGlyph.vue";
import StepList from "../testplan/StepList.vue";
import Trouble from "../shared/Trouble.vue";
import { useShortcuts } from "../shared/shortcuts";

const props = defineProps<{ finding: Finding; run: Run }>();
const { data: proof, isPending, error, refetch } = useProof(() => props.finding.id);
const acts = { ...useChangeActs(), ...useRunActs() };
const { may } = useSession();
const router = useRouter();

/** Findings of how this very page looks here, where this one is of something else; none is said of one that is. */
const others = computed(() => {
  const f = props.finding;
  if (f.kind === "picture") return undefined;
  return props.run.findings.filter(
    (x) => x.kind === "picture" && x.page === f.page && x.persona === f.persona && x.device === f.device,
  ).length;
});

const accepting = ref(false);
const reach = ref<Reach>("place");
function ask(how: Reach) {
  reach.value = how;
  accepting.value = true;
}
const masking = ref(false);

const leaving = ref(false);
const alone = ref({ key: "", pattern: "", reason: "" });
function leave() {
  const c = proof.value?.candidates[0];
  alone.value = {
    key: c?.key ?? "",
    pattern: c?.pattern ?? "",
    reason: `${props.finding.title} (run ${props.run.id})`,
  };
  leaving.value = true;
}
async function exclude() {
  await acts.exclude.mutateAsync({ change: props.run.change!, finding: props.finding.id, ...alone.value });
  leaving.value = false;
  await router.push(`/changes/${props.run.change}`);
}
const mayLeave = computed(() => may("work") && props.run.change && (proof.value?.candidates.length ?? 0) > 0);

const mayAccept = computed(
  () => may("work") && props.finding.kind !== "not-checked" && props.finding.severity !== "note",
);
const adding = ref(false);
async function addHost() {
  await acts.addHost.mutateAsync(props.finding.id);
  adding.value = false;
}

useShortcuts((key) => {
  if (props.run.state !== "done" || props.finding.state === "accepted") return;
  if (key === "a") return mayAccept.value && (() => ask("place"));
  if (key === "A") return mayAccept.value && (() => ask("cause"));
  if (key === "m") return mayAccept.value && canMask(props.finding) && (() => (masking.value = true));
  if (key === "e") return !!mayLeave.value && leave;
});
</script>

<template>
  <section class="stack">
    <div>
      <p class="small faded">
        <StateGlyph :state="finding.severity" /> · {{ kindNames[finding.kind] ?? finding.kind }} · {{ finding.page }} ·
        {{ finding.persona }} on {{ finding.device }}
      </p>
      <h3>{{ finding.title }}</h3>
      <p v-if="finding.detail">{{ finding.detail }}</p>
      <p v-if="finding.control" class="control" :class="finding.control.outcome.replace(' ', '-')">
        {{ finding.control.text }}
      </p>
      <p v-if="finding.state === 'accepted'" class="accepted">
        Accepted as expected by {{ finding.acceptedBy }}: {{ finding.acceptedWhy }}
        <Button
          v-if="may('work')"
          size="small"
          text
          label="Take that back"
          @click="acts.accept.mutate({ finding: finding.id, accepted: false, why: '' })"
        />
      </p>
      <div v-else-if="run.state === 'done'" class="row acts">
        <Button v-if="mayLeave" label="Exclude something" size="small" @click="leave" />
        <Button v-if="mayAccept" label="Accept as expected" size="small" outlined @click="ask('place')" />
        <Button
          v-if="mayAccept && canMask(finding)"
          label="Mask this part"
          size="small"
          outlined
          @click="masking = true"
        />
        <Button
          v-if="finding.host && may('work')"
          :label="`Add ${finding.host} to the site`"
          size="small"
          @click="adding = true"
        />
        <RouterLink v-if="finding.wantsMark" :to="`/sites/${run.site}`" class="small"
          >Take a new mark of {{ run.environment }}, on the site’s page</RouterLink
        >
      </div>
    </div>
    <AskState :pending="isPending" :error="error" what="The proof" @again="refetch()">
      <template v-if="proof">
        <StepList v-if="finding.journey" :now="proof.steps ?? undefined" :was="proof.stepsWere ?? undefined" />
        <details v-if="proof.stepsThen">
          <summary>The same journey with the earlier settings</summary>
          <StepList :now="proof.stepsThen" />
        </details>
        <ProbeAnswers v-if="proof.probe" :probe="proof.probe" />
        <PicturePair
          v-if="!finding.journey && (proof.before?.picture || proof.now?.picture)"
          :before="proof.before?.picture ?? undefined"
          :now="proof.now?.picture ?? undefined"
          :control="proof.control?.picture ?? undefined"
          :changed="!!finding.control"
          :difference="`/api/v1/findings/${finding.id}/difference.png`"
          :regions="proof.regions"
          :quiet="proof.quiet"
          :others="others"
        />
        <p v-else-if="proof.now?.missing">{{ proof.now.missing }}</p>
        <RequestTable v-if="proof.now" :before="proof.before ?? undefined" :now="proof.now" />
      </template>
    </AskState>
    <CommentList :about="{ of: 'runs', id: run.id }" :finding="finding.id" label="About this finding" />
    <AcceptDialog v-model="accepting" :finding="finding" :run="run" :start="reach" />
    <MaskDialog v-model="masking" :finding="finding" />
    <Dialog
      v-model:visible="adding"
      modal
      :header="`Add ${finding.host} to the site?`"
      :style="{ width: '30rem' }"
      :draggable="false"
    >
      <form class="stack" @submit.prevent="addHost">
        <p>
          From then on Tide Marker fetches from <code>{{ finding.host }}</code> what the pages of
          {{ run.environment }} ask for. Add it only when it belongs to the site.
        </p>
        <Trouble :error="acts.addHost.error.value" />
        <Button type="submit" label="Add the host" :loading="acts.addHost.isPending.value" autofocus />
      </form>
    </Dialog>
    <Dialog v-model:visible="leaving" modal header="Exclude something" :style="{ width: '38rem' }" :draggable="false">
      <form v-if="proof" class="stack" @submit.prevent="exclude">
        <fieldset class="candidates">
          <legend class="small faded">Likeliest first</legend>
          <label v-for="c in proof.candidates.slice(0, 20)" :key="c.key + c.pattern" class="candidate">
            <input
              type="radio"
              name="candidate"
              :checked="alone.key === c.key && alone.pattern === c.pattern"
              @change="Object.assign(alone, { key: c.key, pattern: c.pattern })"
            />
            <span
              ><code v-if="c.pattern">{{ c.pattern }}</code>
              <span class="small faded">in “{{ c.title }}”: {{ c.why }}</span></span
            >
          </label>
        </fieldset>
        <label for="pattern">Pattern</label>
        <InputText id="pattern" v-model="alone.pattern" class="mono" required />
        <label for="leave-why">Why</label>
        <Textarea id="leave-why" v-model="alone.reason" rows="2" required />
        <Trouble :error="acts.exclude.error.value" />
        <p class="small faded">It becomes part of the change; try the change again to see whether it is enough.</p>
        <Button type="submit" label="Exclude it" :loading="acts.exclude.isPending.value" autofocus />
      </form>
    </Dialog>
  </section>
</template>

<style scoped>
.control {
  border-left: 4px solid var(--blind);
  padding: 0 var(--s3);
  margin: var(--s1) 0 0;
}
.control.gone {
  border-color: var(--deep);
  font-weight: 600;
}
.acts {
  margin-top: var(--s2);
}
.accepted {
  border-left: 4px solid var(--clear);
  background: var(--clear-wash);
  padding: var(--s1) var(--s3);
}
.candidates {
  border: 0;
  padding: 0;
  margin: 0;
  max-height: 15rem;
  overflow: auto;
}
.candidate {
  display: flex;
  gap: var(--s2);
  padding: 3px 0;
}
</style>
