<script setup lang="ts">
/** What holds for a site's promotions: who approves, for how long they are watched, and when a change is rolled back automatically. */
import Button from "primevue/button";
import InputNumber from "primevue/inputnumber";
import MultiSelect from "primevue/multiselect";
import { computed, ref, watch } from "vue";
import { useCalendarActs, usePromotions } from "./queries";
import { useSession } from "../api/session";
import { useTestPlan } from "../testplan/queries";
import Trouble from "../shared/Trouble.vue";

const props = defineProps<{ site: number }>();
const { may } = useSession();
const { data: promotions } = usePromotions(() => props.site);
const { data: plan } = useTestPlan(() => props.site);
const acts = useCalendarActs();

type Back = NonNullable<NonNullable<typeof promotions.value>["goBack"]>;
const byAnother = ref(false);
const hours = ref(24);
const back = ref<Back>({ on: false });
function reset() {
  byAnother.value = promotions.value?.byAnother ?? false;
  hours.value = promotions.value?.watch?.hours ?? 24;
  back.value = { ...(promotions.value?.goBack ?? { on: false }) };
}
watch(promotions, reset, { immediate: true });
const wanted = computed(() => ({
  byAnother: byAnother.value,
  watch: { hours: hours.value ?? 24 },
  ...(back.value.on || promotions.value?.goBack ? { goBack: back.value } : {}),
}));
const had = computed(() => ({
  byAnother: promotions.value?.byAnother ?? false,
  watch: { hours: promotions.value?.watch?.hours ?? 24 },
  ...(promotions.value?.goBack ? { goBack: promotions.value.goBack } : {}),
}));
const changed = computed(() => JSON.stringify(wanted.value) !== JSON.stringify(had.value));
const fixed = computed(() => !may("decide") || acts.promotions.isPending.value);
const proof = computed({ get: () => back.value.proof ?? "staging", set: (to) => (back.value.proof = to) });
const classes = computed(() => [...new Set(plan.value?.pages.map((p) => p.class ?? "").filter(Boolean))].sort());
const kinds: { value: string; label: string }[] = [
  { value: "journey", label: "a journey does not work" },
  { value: "script-error", label: "a script fails" },
  { value: "request", label: "a request fails" },
  { value: "missing-resource", label: "a file is missing" },
  { value: "cache-leak", label: "private content is shown to others" },
  { value: "wrong-variant", label: "the wrong version is served" },
  { value: "form-refused", label: "a form is refused" },
  { value: "stale-content", label: "something outdated is shown" },
  { value: "cache-policy", label: "a page is cached that must not be" },
  { value: "picture", label: "it looks different" },
  { value: "content", label: "text is missing" },
  { value: "layout-shift", label: "the layout shifts" },
];
</script>

<template>
  <form v-if="promotions" class="stack" @submit.prevent="acts.promotions.mutate({ site, promotion: wanted })">
    <h2>Approvals</h2>
    <label class="row"
      ><input v-model="byAnother" type="checkbox" :disabled="fixed" /> Nobody approves a change of their own</label
    >
    <h2>After a promotion</h2>
    <label class="row"
      >Watch it for
      <InputNumber
        v-model="hours"
        :min="0"
        :max="744"
        :disabled="fixed"
        size="small"
        :input-style="{ width: '5rem' }"
      />
      hours</label
    >
    <p v-if="hours === 0" class="small faded">
      Promotions are not watched: what breaks later, when pages expire, is not noticed.
    </p>
    <label class="row"
      ><input v-model="back.on" type="checkbox" :disabled="fixed || hours === 0" /> A change is rolled back
      automatically when its watch finds something broken</label
    >
    <template v-if="back.on">
      <label class="small" for="back-kinds">Only when</label>
      <MultiSelect
        v-model="back.kinds"
        input-id="back-kinds"
        :options="kinds"
        option-label="label"
        option-value="value"
        placeholder="anything does not work"
        :disabled="fixed"
        size="small"
      />
      <label class="small" for="back-classes">On pages of the class</label>
      <MultiSelect
        v-model="back.classes"
        input-id="back-classes"
        :options="classes"
        placeholder="any"
        :disabled="fixed"
        size="small"
      />
      <label class="small" for="back-proof">How sure</label>
      <select id="back-proof" v-model="proof" :disabled="fixed">
        <option value="staging">staging shows it, too, with the same settings</option>
        <option value="twice">two checks in a row found it</option>
      </select>
      <label class="row small"
        >Announced
        <InputNumber
          :model-value="back.minutes || 10"
          :min="1"
          :max="1440"
          :disabled="fixed"
          size="small"
          :input-style="{ width: '5rem' }"
          @update:model-value="back.minutes = $event ?? 10"
        />
        minutes before, so that somebody may say no</label
      >
      <p class="small faded">A change that deletes data is never rolled back automatically.</p>
    </template>
    <Trouble :error="acts.promotions.error.value" />
    <div v-if="changed && may('decide')" class="row">
      <Button type="submit" size="small" label="Save" :loading="acts.promotions.isPending.value" />
      <Button size="small" text label="Cancel" @click="reset" />
    </div>
    <p v-if="!may('decide')" class="small faded">Only approvers can edit this.</p>
  </form>
</template>
