<script setup lang="ts">
/** What somebody changed on an environment outside, and the two ways to settle it. */
import Button from "primevue/button";
import Dialog from "primevue/dialog";
import Textarea from "primevue/textarea";
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { useSiteActs, type Environment } from "./queries";
import { useSession } from "../api/session";
import Consequence from "../shared/Consequence.vue";
import DifferenceTable from "../shared/DifferenceTable.vue";
import Fingerprint from "../shared/Fingerprint.vue";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";

const props = defineProps<{ environment: Environment }>();
const acts = useSiteActs();
const router = useRouter();
const { may } = useSession();
const drift = computed(() => props.environment.drift!);
const production = computed(() => props.environment.role === "production");

const accepting = ref(false);
const reason = ref("");
async function accept() {
  await acts.acceptDrift.mutateAsync({ drift: drift.value.id, found: drift.value.found, reason: reason.value });
  accepting.value = false;
}

const reverting = ref(false);
async function revert() {
  const r = await acts.revertDrift.mutateAsync(drift.value.id);
  await router.push(`/runs/${r.id}`);
}
async function check() {
  const r = await acts.check.mutateAsync(props.environment.id);
  await router.push(`/runs/${r.id}`);
}
const lacking = computed(() =>
  production.value && !may("decide") ? "Only an approver can accept what is in force on production." : "",
);
</script>

<template>
  <section class="drift stack" role="status">
    <h2>{{ environment.name }} was changed outside Tide Marker</h2>
    <p class="small">
      Found <When :at="drift.foundAt" />: <Fingerprint :value="drift.was" /> became
      <Fingerprint :value="drift.found" />. Nothing is promoted until it is accepted or reverted.
    </p>
    <DifferenceTable :differences="drift.differences" before="Before" after="Found" />
    <div v-if="may('work')" class="row">
      <Button label="Revert" size="small" @click="reverting = true" />
      <Button label="Accept" size="small" outlined :disabled="!!lacking" @click="accepting = true" />
      <Button
        v-if="environment.marks.length"
        label="Check now"
        size="small"
        text
        :loading="acts.check.isPending.value"
        @click="check"
      />
      <span v-if="lacking" class="small faded">{{ lacking }}</span>
    </div>
    <Trouble :error="(reverting ? undefined : acts.revertDrift.error.value) ?? acts.check.error.value" />
    <Consequence
      v-model="reverting"
      :title="`Revert ${environment.name}`"
      :does="[
        `${environment.name} gets the settings of ${drift.was.slice(0, 8)} again and they are read back.`,
        'The page cache is purged, and the pages of the test plan are warmed.',
        'All pages and journeys are checked against its mark. It is done only when that is clear.',
      ]"
      loses="what was set outside is no longer in force; it stays recorded as a revision."
      verb="Revert"
      :busy="acts.revertDrift.isPending.value"
      :error="acts.revertDrift.error.value"
      @go="revert"
    />
    <Dialog
      v-model:visible="accepting"
      modal
      :header="`Accept what was found on ${environment.name}`"
      :style="{ width: '32rem' }"
      :draggable="false"
    >
      <form class="stack" @submit.prevent="accept">
        <p>
          It becomes the expected state of {{ environment.name }}.
          <template v-if="production">Changes that were begun earlier have to be begun again from there.</template>
          It is away from its mark until another is taken.
        </p>
        <label for="accept-why">Why is it accepted? It is recorded under your name.</label>
        <Textarea id="accept-why" v-model="reason" rows="3" autofocus required />
        <Trouble :error="acts.acceptDrift.error.value" />
        <Button type="submit" label="Accept" :disabled="!reason.trim()" :loading="acts.acceptDrift.isPending.value" />
      </form>
    </Dialog>
  </section>
</template>

<style scoped>
.drift {
  border-left: 8px solid var(--unsure);
  background: var(--unsure-wash);
  padding: var(--s3) var(--s4);
  margin-bottom: var(--s3);
}
</style>
