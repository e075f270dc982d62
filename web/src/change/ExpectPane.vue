<script setup lang="ts">
/** What a change is meant to make better, in figures, and what a measurement says of it. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import Select from "primevue/select";
import { computed, ref } from "vue";
import type { Schemas } from "../api/client";
import { useChangeActs, type Change } from "./queries";
import { useTestPlan } from "../testplan/queries";
import StateGlyph from "../shared/StateGlyph.vue";
import Trouble from "../shared/Trouble.vue";

const props = defineProps<{ change: Change; editable: boolean }>();
const acts = useChangeActs();
const saying = ref(false);
type Expectation = Schemas["Expectation"];
const metrics: { value: Expectation["metric"]; label: string; unit: string; factor: number }[] = [
  { value: "largest-contentful-paint", label: "largest paint", unit: "ms", factor: 1 },
  { value: "first-contentful-paint", label: "first paint", unit: "ms", factor: 1 },
  { value: "layout-shift", label: "layout shift", unit: "", factor: 1 },
  { value: "total-blocking-time", label: "blocking time", unit: "ms", factor: 1 },
  { value: "interaction-delay", label: "interaction delay", unit: "ms", factor: 1 },
  { value: "visually-complete", label: "visually complete", unit: "ms", factor: 1 },
  { value: "load", label: "load", unit: "ms", factor: 1 },
  { value: "transferred", label: "transferred", unit: "kB", factor: 1000 },
  { value: "requests", label: "requests", unit: "", factor: 1 },
];
const devices = [
  { value: "", label: "each device" },
  { value: "phone", label: "a phone" },
  { value: "desktop", label: "a desktop" },
];
const { data: plan } = useTestPlan(() => props.change.site);
const pages = computed(() => [
  { value: "", label: "all pages that are measured" },
  ...(plan.value?.pages ?? []).map((p) => ({ value: p.path, label: p.path })),
]);
const wish = ref({ metric: metrics[0]!.value, device: "" as Expectation["device"], page: "", amount: "" });
const of = (m: string) => metrics.find((x) => x.value === m) ?? metrics[0]!;
async function say(expected?: Expectation) {
  await acts.expect.mutateAsync({ change: props.change.id, expected });
  saying.value = false;
}
const states: Record<string, string> = { met: "clear", "not met": "broken", "not shown": "undecided" };
</script>

<template>
  <div class="stack">
    <p v-if="change.expected" class="small">
      Expected: {{ change.expected.text }}.
      <template v-if="change.expected.answer"
        ><StateGlyph :state="states[change.expected.answer] ?? 'note'" :word="change.expected.answer" />
        {{ change.expected.why }}</template
      >
    </p>
    <form
      v-if="saying"
      class="stack"
      @submit.prevent="
        say({
          metric: wish.metric,
          device: wish.device,
          page: wish.page,
          amount: (Number(wish.amount.replace(',', '.')) || 0) * of(wish.metric).factor,
        })
      "
    >
      <Select
        v-model="wish.metric"
        :options="metrics"
        option-label="label"
        option-value="value"
        aria-label="Metric"
        size="small"
      />
      <div class="row">
        <label for="expect-amount" class="small">better by</label>
        <InputText id="expect-amount" v-model="wish.amount" placeholder="any" size="small" class="amount" />
        <span class="small">{{ of(wish.metric).unit }} on</span>
        <Select
          v-model="wish.device"
          :options="devices"
          option-label="label"
          option-value="value"
          aria-label="Device"
          size="small"
        />
        <span class="small">at</span>
        <Select
          v-model="wish.page"
          :options="pages"
          option-label="label"
          option-value="value"
          aria-label="Page"
          size="small"
        />
      </div>
      <div class="row">
        <Button type="submit" size="small" label="Save" :loading="acts.expect.isPending.value" />
        <Button v-if="change.expected" size="small" text label="Remove" @click="say()" />
      </div>
    </form>
    <Button
      v-else-if="editable"
      size="small"
      text
      :label="change.expected ? 'Edit' : 'Set a measurable target'"
      @click="saying = true"
    />
    <Trouble :error="acts.expect.error.value" />
  </div>
</template>

<style scoped>
.amount {
  width: 4.5rem;
}
</style>
