<script setup lang="ts">
/** What a change is meant to make better, in figures, and what a measurement says of it. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref } from "vue";
import type { Schemas } from "../api/client";
import { useChangeActs, type Change } from "./queries";
import { useTestPlan } from "../testplan/queries";
import { amountOf } from "../shared/amount";
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
/** By how much, in the metric's unit: nothing for what is no amount, 0 where none is asked for. */
const amount = computed(() => (wish.value.amount.trim() ? amountOf(wish.value.amount) : 0));
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
        amount !== undefined &&
        say({
          metric: wish.metric,
          device: wish.device,
          page: wish.page,
          amount: amount * of(wish.metric).factor,
        })
      "
    >
      <select v-model="wish.metric" aria-label="Metric">
        <option v-for="o in metrics" :key="o.value" :value="o.value">{{ o.label }}</option>
      </select>
      <div class="row">
        <label for="expect-amount" class="small">better by</label>
        <InputText
          id="expect-amount"
          v-model="wish.amount"
          placeholder="any"
          size="small"
          class="amount"
          :invalid="amount === undefined"
          aria-describedby="expect-wrong"
        />
        <span class="small">{{ of(wish.metric).unit }} on</span>
        <select v-model="wish.device" aria-label="Device">
          <option v-for="o in devices" :key="o.value" :value="o.value">{{ o.label }}</option>
        </select>
        <span class="small">at</span>
        <select v-model="wish.page" aria-label="Page">
          <option v-for="o in pages" :key="o.value" :value="o.value">{{ o.label }}</option>
        </select>
      </div>
      <p id="expect-wrong" role="status" class="small">
        <template v-if="amount === undefined"
          >“{{ wish.amount.trim() }}” is no amount. Write a number such as 5 or 0.1, or nothing for any difference that
          matters.</template
        >
      </p>
      <div class="row">
        <Button
          type="submit"
          size="small"
          label="Save"
          :disabled="amount === undefined"
          :loading="acts.expect.isPending.value"
        />
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
