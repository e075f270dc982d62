<script setup lang="ts">
import { useIsMutating } from "@tanstack/vue-query";
import Button from "primevue/button";
import Select from "primevue/select";
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { useOnboarding, useOnboardingActs, useOnboardings, type Onboarding } from "./queries";
import AskState from "../shared/AskState.vue";
import { classes } from "../shared/classes";
import PlaceForm from "./PlaceForm.vue";
import StateGlyph from "../shared/StateGlyph.vue";
import LooksTable from "../testplan/LooksTable.vue";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";
import { useAsking } from "../shared/asking";
import CsvFoot from "../shared/CsvFoot.vue";

const ask = useAsking();
const props = defineProps<{ id: number }>();
const router = useRouter();
const { data: onboarding, isPending, error, refetch } = useOnboarding(() => props.id || 0);
const { data: begun } = useOnboardings();
const acts = useOnboardingActs();

const wellPlaced = computed(() => !!onboarding.value?.tests.length && onboarding.value.tests.every((t) => t.ok));

type Class = Onboarding["pages"][number]["class"];
const only = ref("test-plan");
const most = 200;
const filtered = computed(() => {
  const all = onboarding.value?.pages ?? [];
  return only.value === "test-plan" ? all.filter((p) => p.watch) : all.filter((p) => p.class === only.value);
});
const shownPages = computed(() => {
  return filtered.value.slice(0, most);
});
const picked = ref<string[]>([]);
const counts = computed(() =>
  classes
    .map((c) => [c, onboarding.value?.pages.filter((p) => p.class === c).length ?? 0] as const)
    .filter(([, n]) => n),
);
function reclass(c: Class) {
  acts.pages.mutate({ id: props.id, paths: picked.value, class: c }, { onSuccess: () => (picked.value = []) });
}

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
  <h1>{{ onboarding ? `Adding ${onboarding.name}` : "Add a site" }}</h1>
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
          :label="onboarding.pages.length ? 'Look again' : 'Find its pages'"
          :outlined="!!onboarding.pages.length"
          :disabled="!wellPlaced"
          :loading="onboarding.survey.state === 'running' || acts.survey.isPending.value"
          @click="acts.survey.mutate(onboarding.id)"
        />
        <span v-if="onboarding.survey.state" aria-live="polite">
          {{ onboarding.survey.listed }} addresses named, {{ onboarding.survey.done }} of
          {{ onboarding.survey.wanted }} looked at
        </span>
        <span v-else-if="!wellPlaced" class="small faded">Everything above has to be right first.</span>
      </div>
      <p v-for="n in onboarding.survey.notes" :key="n" class="small faded">{{ n }}</p>
      <Trouble :error="acts.survey.error.value" />
      <template v-if="onboarding.pages.length">
        <p class="row filters">
          <Button
            size="small"
            :text="only !== 'test-plan'"
            :aria-pressed="only === 'test-plan'"
            :label="`in the test plan (${onboarding.pages.filter((p) => p.watch).length})`"
            @click="only = 'test-plan'"
          />
          <Button
            v-for="[c, n] in counts"
            :key="c"
            size="small"
            :text="only !== c"
            :aria-pressed="only === c"
            :label="`${c} (${n})`"
            @click="only = c"
          />
        </p>
        <p v-if="picked.length" class="row">
          <span>{{ picked.length }} ticked:</span>
          <Select
            :model-value="undefined"
            :options="[...classes]"
            placeholder="set their class"
            size="small"
            aria-label="Class of the ticked pages"
            @update:model-value="reclass"
          />
          <Button
            size="small"
            text
            label="test them"
            @click="acts.pages.mutate({ id: onboarding.id, paths: picked, watch: true })"
          />
          <Button
            size="small"
            text
            label="do not test"
            @click="acts.pages.mutate({ id: onboarding.id, paths: picked, watch: false })"
          />
        </p>
        <table v-listed class="tide">
          <thead>
            <tr>
              <th><span class="visually-hidden">Tick</span></th>
              <th>Page</th>
              <th>Class</th>
              <th>Why</th>
              <th>Tested</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="p in shownPages" :key="p.path">
              <td><input v-model="picked" type="checkbox" :value="p.path" :aria-label="`Tick ${p.path}`" /></td>
              <td>
                {{ p.path }} <span class="small faded">{{ p.title }}</span>
              </td>
              <td>{{ p.class }}</td>
              <td class="small">{{ p.why }}</td>
              <td>{{ p.watch ? "yes" : "" }}</td>
            </tr>
          </tbody>
          <CsvFoot />
        </table>
        <p v-if="filtered.length > most" class="small">
          The first {{ most }} of {{ filtered.length }} are shown; a class above shows fewer.
        </p>
        <Trouble :error="acts.pages.error.value" />
      </template>
    </li>
    <li v-if="onboarding?.pages.length">
      <h2>Personas and journeys</h2>
      <LooksTable
        :looks="onboarding"
        :pages="onboarding.pages.filter((p) => p.watch).map((p) => p.path)"
        :first="
          (onboarding.environments.find((e) => e.role === 'staging') ?? onboarding.environments[0])?.name ?? 'staging'
        "
        may-edit
        :keep="(looks) => acts.looks.mutateAsync({ id: onboarding!.id, looks })"
        :run="(what) => acts.run.mutateAsync({ id: onboarding!.id, what })"
      />
    </li>
    <li v-if="onboarding?.pages.length">
      <h2>Add it</h2>
      <p>
        {{ onboarding.pages.filter((p) => p.watch).length }} pages and {{ onboarding.journeys.length }} journeys in the
        test plan from then on, as a visitor<template v-for="p in onboarding.personas" :key="p.name"
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
        <Button
          text
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
.filters {
  flex-wrap: wrap;
  gap: 2px;
  margin: var(--s2) 0;
}
@media (max-width: 900px) {
  .tests li {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
