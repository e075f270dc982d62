<script setup lang="ts">
/** Measuring what a change does to speed: at once as usual, or with what is measured chosen. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { useMeasureActs, type Scope } from "../measure/queries";
import type { Change } from "./queries";
import { useTestPlan } from "../testplan/queries";
import Trouble from "../shared/Trouble.vue";

const props = defineProps<{ change: Change; again: boolean }>();
const acts = useMeasureActs();
const router = useRouter();
const choosing = ref(false);
const { data: plan } = useTestPlan(() => props.change.site);
const scope = ref({
  repeat: true,
  uncached: false,
  film: true,
  pages: [] as string[],
  devices: [] as ("desktop" | "phone")[],
  personas: ["visitor"],
  journeys: [] as string[],
  rounds: "",
});
const personas = computed(() => ["visitor", ...(plan.value?.personas ?? []).map((p) => p.name)]);
async function go() {
  const { rounds, ...rest } = scope.value;
  const wanted: Scope = { ...rest, rounds: Math.min(30, Number(rounds) || 0) };
  const r = await acts.measure.mutateAsync({ change: props.change.id, scope: wanted });
  void router.push(`/runs/${r.id}`);
}
</script>

<template>
  <form class="stack" @submit.prevent="go">
    <div class="row">
      <Button
        type="submit"
        size="small"
        outlined
        :label="again ? 'Measure again' : `Measure on ${change.staging}`"
        :loading="acts.measure.isPending.value"
      />
      <Button
        size="small"
        text
        :label="choosing ? 'As usual' : 'Choose what'"
        :aria-expanded="choosing"
        @click="choosing = !choosing"
      />
    </div>
    <template v-if="choosing">
      <fieldset>
        <legend>Loads of each page</legend>
        <label><input v-model="scope.repeat" type="checkbox" /> also a repeat visit</label>
        <label><input v-model="scope.uncached" type="checkbox" /> also past the page cache</label>
        <label><input v-model="scope.film" type="checkbox" /> also a film of how it appears</label>
      </fieldset>
      <fieldset>
        <legend>On (none chosen: both)</legend>
        <label v-for="d in ['desktop', 'phone']" :key="d"
          ><input v-model="scope.devices" type="checkbox" :value="d" /> {{ d }}</label
        >
      </fieldset>
      <fieldset>
        <legend>As</legend>
        <label v-for="p in personas" :key="p"
          ><input v-model="scope.personas" type="checkbox" :value="p" /> {{ p }}</label
        >
      </fieldset>
      <fieldset>
        <legend>Pages (none chosen: the first of each class)</legend>
        <label v-for="p in plan?.pages ?? []" :key="p.path"
          ><input v-model="scope.pages" type="checkbox" :value="p.path" /> {{ p.path }}</label
        >
      </fieldset>
      <fieldset v-if="(plan?.journeys ?? []).length">
        <legend>Journeys, for response to input</legend>
        <label v-for="j in plan?.journeys ?? []" :key="j.name"
          ><input v-model="scope.journeys" type="checkbox" :value="j.name" /> {{ j.name }}</label
        >
      </fieldset>
      <div class="row">
        <label for="measure-rounds" class="small">Rounds at most</label>
        <InputText
          id="measure-rounds"
          v-model="scope.rounds"
          inputmode="numeric"
          pattern="[0-9]*"
          placeholder="15"
          size="small"
          class="few"
        />
      </div>
    </template>
    <Trouble :error="acts.measure.error.value" />
  </form>
</template>

<style scoped>
fieldset {
  border: 0;
  border-left: 2px solid var(--rule);
  margin: 0;
  padding: 0 0 0 var(--s2);
  font-size: 0.88rem;
  max-height: 12rem;
  overflow-y: auto;
}
legend {
  font-family: var(--chart);
  font-style: italic;
  color: var(--faded);
  padding: 0;
}
fieldset label {
  display: block;
  overflow-wrap: anywhere;
}
.few {
  width: 4rem;
}
</style>
