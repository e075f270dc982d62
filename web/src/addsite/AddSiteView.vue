<script setup lang="ts">
import { useIsMutating } from "@tanstack/vue-query";
import Button from "primevue/button";
import { computed } from "vue";
import { useRouter } from "vue-router";
import { useOnboarding, useOnboardingActs, useOnboardings } from "./queries";
import AskState from "../shared/AskState.vue";
import FoundPages from "./FoundPages.vue";
import PlaceForm from "./PlaceForm.vue";
import StateGlyph from "../shared/StateGlyph.vue";
import LooksTable from "../testplan/LooksTable.vue";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";
import { useAsking } from "../shared/asking";
import { counted } from "../shared/wording";

const ask = useAsking();
const props = defineProps<{ id: number }>();
const router = useRouter();
const { data: onboarding, isPending, error, refetch } = useOnboarding(() => props.id || 0);
const { data: begun } = useOnboardings();
const acts = useOnboardingActs();

const wellPlaced = computed(() => !!onboarding.value?.tests.length && onboarding.value.tests.every((t) => t.ok));

const saving = useIsMutating();
async function register() {
  const s = await acts.register.mutateAsync(props.id);
  await router.push(`/sites/${s.id}`);
}
async function giveUp() {
  await acts.drop.mutateAsync(props.id);
  await router.push("/");
}
</script>

<template>
  <div class="spread">
    <h1>{{ onboarding ? `Adding ${onboarding.name}` : "Add a site" }}</h1>
    <Button
      v-if="onboarding"
      text
      size="small"
      label="Discard"
      @click="
        ask({
          title: `Discard ${onboarding!.name}?`,
          says: 'Its addresses, pages, personas and journeys are lost. The site itself is not touched.',
          verb: 'Discard it',
          go: giveUp,
        })
      "
    />
  </div>
  <p class="faded">
    Where it is, which pages it has, who looks, what has to work. It is saved as you go: leave it, and continue later.
  </p>
  <p v-if="!onboarding && begun?.length" class="small">
    Begun:
    <template v-for="t in begun" :key="t.id"
      ><RouterLink :to="`/add-site/${t.id}`">{{ t.name }}</RouterLink> (<When :at="t.updatedAt" short />)
    </template>
  </p>
  <AskState v-if="id && !onboarding" :pending="isPending" :error="error" what="The new site" @again="refetch()" />
  <ol v-else class="steps">
    <li>
      <h2>Where it is</h2>
      <PlaceForm :onboarding="onboarding" />
      <ul v-if="onboarding?.tests.length" class="plain-list tests">
        <li v-for="(t, i) in onboarding.tests" :key="i">
          <StateGlyph :state="t.ok ? 'clear' : 'broken'" :word="`${t.environment}, ${t.what}`" />
          <span>{{ t.text }}</span>
        </li>
      </ul>
      <p class="small faded">
        Before checks fill in forms: point staging’s mail and payment at an outbox (<code>tidemarker outbox</code>), so
        that no real customer gets mail and nobody is charged. Forms are only ever sent on staging.
      </p>
    </li>
    <li v-if="onboarding">
      <h2>Which pages it has</h2>
      <div class="row">
        <Button
          :label="onboarding.pages.total ? 'Look again' : 'Find its pages'"
          :outlined="!!onboarding.pages.total"
          :disabled="!wellPlaced"
          :loading="onboarding.survey.state === 'running' || acts.survey.isPending.value"
          @click="acts.survey.mutate(onboarding.id)"
        />
        <span v-if="onboarding.survey.state" aria-live="polite">
          {{ counted(onboarding.survey.listed, "address", "addresses") }} named, {{ onboarding.survey.done }} of
          {{ onboarding.survey.wanted }} looked at
        </span>
        <span v-else-if="!wellPlaced" class="small faded">Everything above has to be right first.</span>
      </div>
      <p v-for="n in onboarding.survey.notes" :key="n" class="small faded">{{ n }}</p>
      <Trouble :error="acts.survey.error.value" />
      <FoundPages v-if="onboarding.pages.total" :onboarding="onboarding" />
    </li>
    <li v-if="onboarding?.pages.total">
      <h2>Personas and journeys</h2>
      <LooksTable
        :looks="onboarding"
        :pages="onboarding.pages.watched"
        :first="
          (onboarding.environments.find((e) => e.role === 'staging') ?? onboarding.environments[0])?.name ?? 'staging'
        "
        may-edit
        :keep="(looks) => acts.looks.mutateAsync({ id: onboarding!.id, looks })"
        :run="(what) => acts.run.mutateAsync({ id: onboarding!.id, what })"
      />
    </li>
    <li v-if="onboarding?.pages.total">
      <h2>Add it</h2>
      <p>
        {{ counted(onboarding.pages.watched.length, "page") }} and
        {{ counted(onboarding.journeys.length, "journey") }} in the test plan from then on, as a visitor<template
          v-for="p in onboarding.personas"
          :key="p.name"
          >, as {{ p.name }}</template
        >. Next come the first marks.
      </p>
      <Trouble :error="acts.register.error.value" />
      <div class="row">
        <!-- What was just changed above is saved first: the site is registered unchanged. -->
        <Button
          label="Add the site"
          :disabled="saving > 0"
          :loading="acts.register.isPending.value"
          @click="register"
        />
      </div>
    </li>
  </ol>
</template>

<style scoped>
.steps {
  padding-left: 1.6rem;
  margin: var(--s4) 0;
}
.steps > li {
  border-left: 2px solid var(--rule-strong);
  padding: 0 0 var(--s4) var(--s4);
}
.steps > li::marker {
  font-family: var(--chart);
  font-size: 1.3rem;
  color: var(--deep);
}
.tests {
  margin: var(--s3) 0;
}
.tests li {
  display: grid;
  grid-template-columns: 14rem 1fr;
  gap: var(--s2);
  padding: 2px 0;
}
@media (max-width: 900px) {
  .tests li {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
