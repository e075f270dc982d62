<script setup lang="ts">
/** Budgets: a table, and a row to say one more. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref } from "vue";
import type { Schemas } from "../api/client";
import { budgetMetrics, budgetOf, limitOf } from "./budgets";
import { classes } from "../shared/classes";
import CsvFoot from "../shared/CsvFoot.vue";

type Budget = Schemas["Budget"];
const props = defineProps<{ budgets: Budget[]; mayEdit: boolean; busy: boolean }>();
const emit = defineEmits<{ budgets: [budgets: Budget[]] }>();
const wish = ref({
  metric: budgetMetrics[0]!.value,
  class: "",
  device: "" as "" | "desktop" | "phone",
  against: "most",
  amount: "",
});
const unit = computed(() =>
  wish.value.against === "over" ? "%" : budgetMetrics.find((m) => m.value === wish.value.metric)!.unit,
);
const made = computed(() => budgetOf(wish.value));
function add() {
  if (!made.value) return;
  emit("budgets", [...props.budgets, made.value]);
  wish.value.amount = "";
}
const drop = (i: number) =>
  emit(
    "budgets",
    props.budgets.filter((_, n) => n !== i),
  );
const title = (b: Budget) => budgetMetrics.find((m) => m.value === b.metric)?.label ?? b.metric;
</script>

<template>
  <p v-if="!budgets.length" class="faded">
    No budgets. With one, checks on staging measure its pages after each change, and say when it is exceeded.
  </p>
  <table v-else v-listed class="tide">
    <thead>
      <tr>
        <th>Metric</th>
        <th>At most</th>
        <th>Pages</th>
        <th>Device</th>
        <th><span class="visually-hidden">Actions</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(b, i) in budgets" :key="i">
        <td>{{ title(b) }}</td>
        <td>{{ limitOf(b) }}</td>
        <td>{{ b.class || "each" }}</td>
        <td>{{ b.device || "each" }}</td>
        <td>
          <Button
            v-if="mayEdit"
            size="small"
            text
            label="Remove"
            :aria-label="`Remove the budget of ${title(b)}`"
            :disabled="busy"
            @click="drop(i)"
          />
        </td>
      </tr>
    </tbody>
    <CsvFoot />
  </table>
  <form v-if="mayEdit" class="row" @submit.prevent="add">
    <select v-model="wish.metric" aria-label="Metric of the budget">
      <option v-for="m in budgetMetrics" :key="m.value" :value="m.value">{{ m.label }}</option>
    </select>
    <select v-model="wish.against" aria-label="Against what">
      <option value="most">at most</option>
      <option value="over">over the mark, at most</option>
    </select>
    <InputText v-model="wish.amount" aria-label="Amount of the budget" size="small" class="few" />
    <span class="small">{{ unit }}, pages</span>
    <select v-model="wish.class" aria-label="Class of pages of the budget">
      <option value="">each</option>
      <option v-for="c in classes" :key="c" :value="c">{{ c }}</option>
    </select>
    <span class="small">on</span>
    <select v-model="wish.device" aria-label="Device of the budget">
      <option value="">each device</option>
      <option value="phone">a phone</option>
      <option value="desktop">a desktop</option>
    </select>
    <Button type="submit" size="small" label="Add the budget" :disabled="!made" :loading="busy" />
  </form>
</template>

<style scoped>
.few {
  width: 5rem;
}
form {
  margin-top: var(--s2);
}
</style>
