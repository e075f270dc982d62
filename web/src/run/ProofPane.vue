<script setup lang="ts">
/** What one finding rests on, and what can be done about it. */
import Button from "primevue/button";
import Dialog from "primevue/dialog";
import { computed, ref } from "vue";
import { useRunActs, useProof, type Finding, type Run } from "./queries";
import { useSession } from "../api/session";
import AcceptDialog from "./AcceptDialog.vue";
import AskState from "../shared/AskState.vue";
import { canMask, type Reach } from "./decisions";
import CommentList from "../shared/CommentList.vue";
import ExcludeDialog from "./ExcludeDialog.vue";
import LookMade from "./LookMade.vue";
import MaskDialog from "./MaskDialog.vue";
import { byCause, kindNames } from "./findings";
import PicturePair from "./PicturePair.vue";
import ProbeAnswers from "./ProbeAnswers.vue";
import RequestTable from "./RequestTable.vue";
import StateGlyph from "../shared/StateGlyph.vue";
import StepList from "../testplan/StepList.vue";
import Trouble from "../shared/Trouble.vue";
import { useShortcuts } from "../shared/shortcuts";

const props = defineProps<{ finding: Finding; run: Run }>();
const { data: proof, isPending, error, refetch } = useProof(() => props.finding.id);
const acts = useRunActs();
const { may } = useSession();

/** Findings of how this very page looks here, where this one is of something else; none is said of one that is. */
const others = computed(() => {
  const f = props.finding;
  if (f.kind === "picture") return undefined;
  return props.run.findings.filter(
    (x) => x.kind === "picture" && x.page === f.page && x.persona === f.persona && x.device === f.device,
  ).length;
});

/** The largest shifts while the page loaded, where it shifted at all. */
const moved = computed(() =>
  [...(proof.value?.now?.shifts ?? [])]
    .sort((a, b) => b.score - a.score)
    .slice(0, 3)
    .flatMap((s) => s.paths ?? []),
);
const accepting = ref(false);
const reach = ref<Reach>("place");
function ask(how: Reach) {
  reach.value = how;
  accepting.value = true;
}
/** How many findings of the run come of the same cause. */
const cause = computed(
  () =>
    byCause(props.run.findings).find((c) => c.findings.some((f) => f.id === props.finding.id))?.findings.length ?? 1,
);
const masking = ref(false);

const excluding = ref(false);
const mayExclude = computed(() => may("work") && props.run.change && (proof.value?.candidates.length ?? 0) > 0);

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
  if (key === "e") return !!mayExclude.value && (() => (excluding.value = true));
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
      <p v-if="finding.state === 'accepted'" class="callout clear">
        Accepted as expected by {{ finding.acceptedBy }}: {{ finding.acceptedWhy }}
        <Button
          v-if="may('work')"
          size="small"
          text
          label="Undo"
          @click="acts.accept.mutate({ finding: finding.id, accepted: false, why: '' })"
        />
      </p>
      <div v-else-if="run.state === 'done'" class="row acts">
        <Button v-if="mayExclude" label="Exclude …" size="small" @click="excluding = true" />
        <Button v-if="mayAccept" label="Accept as expected" size="small" outlined @click="ask('place')" />
        <Button
          v-if="mayAccept && cause > 1"
          :label="`Accept the whole cause (${cause})`"
          size="small"
          outlined
          @click="ask('cause')"
        />
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
          :moved="moved"
        />
        <p v-else-if="proof.now?.missing">{{ proof.now.missing }}</p>
        <RequestTable v-if="proof.now" :before="proof.before ?? undefined" :now="proof.now" />
        <LookMade v-if="proof.now" :made="proof.now" />
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
    <ExcludeDialog
      v-if="excluding && proof"
      v-model="excluding"
      :finding="finding"
      :run="run"
      :candidates="proof.candidates"
    />
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
</style>
