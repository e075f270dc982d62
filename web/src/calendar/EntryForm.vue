<script setup lang="ts">
/** A freeze or a window as somebody writes it. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref } from "vue";
import type { EntryWords } from "./queries";
import { againOf, againSaid, ruleOf, weekdays } from "./calendar";
import Trouble from "../shared/Trouble.vue";

const props = defineProps<{ entry?: EntryWords; everywhere: boolean; busy?: boolean; error?: Error | null }>();
const emit = defineEmits<{ keep: [EntryWords]; away: [] }>();
const zones = Intl.supportedValuesOf("timeZone");
const words = ref<EntryWords>(
  props.entry
    ? { ...props.entry }
    : {
        kind: "freeze",
        title: "",
        begins: "",
        ends: "",
        zone: Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC",
      },
);
const again = ref(againOf(words.value.rule ?? ""));
const kept = computed<EntryWords>(() => ({
  ...words.value,
  title: words.value.title.trim(),
  rule: ruleOf(again.value),
}));
const lacks = computed(() => {
  const w = words.value;
  if (!w.title.trim()) return "It needs a title.";
  if (!w.begins || !w.ends) return "It needs a start and an end.";
  return w.ends <= w.begins ? "It ends before it begins." : "";
});
</script>

<template>
  <form
    class="stack sheet"
    :aria-label="entry ? 'Edit the entry' : 'Add an entry'"
    @submit.prevent="!lacks && emit('keep', kept)"
  >
    <fieldset class="row">
      <legend class="visually-hidden">What it is</legend>
      <label class="row kind"
        ><input v-model="words.kind" type="radio" value="freeze" /> Freeze: nothing is promoted</label
      >
      <label class="row kind"
        ><input v-model="words.kind" type="radio" value="window" /> Window: promotions start only then</label
      >
    </fieldset>
    <div class="field">
      <label for="entry-title">Title</label>
      <InputText id="entry-title" v-model="words.title" v-focus maxlength="200" size="small" />
    </div>
    <div class="pair">
      <div class="field">
        <label for="entry-begins">Starts</label>
        <input id="entry-begins" v-model="words.begins" type="datetime-local" />
      </div>
      <div class="field">
        <label for="entry-ends">Ends</label>
        <input id="entry-ends" v-model="words.ends" type="datetime-local" />
      </div>
    </div>
    <div class="pair">
      <div class="field">
        <label for="entry-zone">Time zone</label>
        <InputText id="entry-zone" v-model="words.zone" list="zones" size="small" />
        <datalist id="zones"><option v-for="z in zones" :key="z" :value="z" /></datalist>
      </div>
      <div class="field">
        <label for="entry-again">Recurs</label>
        <select id="entry-again" v-model="again.how">
          <option value="once">once</option>
          <option value="daily">each day</option>
          <option value="weekly">each week</option>
          <option value="monthly">each month</option>
          <option value="yearly">each year</option>
          <option value="rule">by a rule (RFC 5545)</option>
        </select>
      </div>
    </div>
    <div v-if="again.how === 'weekly'" class="row" role="group" aria-label="On which days; none: the day it starts">
      <label v-for="d in weekdays" :key="d" class="row kind"
        ><input v-model="again.days" type="checkbox" :value="d" />
        {{ againSaid(`FREQ=WEEKLY;BYDAY=${d}`).slice(5, 8) }}</label
      >
    </div>
    <div v-if="again.how === 'rule'" class="field">
      <label for="entry-rule">Rule</label>
      <InputText id="entry-rule" v-model="again.rule" placeholder="FREQ=MONTHLY;BYDAY=-1FR" size="small" class="mono" />
    </div>
    <div v-else-if="again.how !== 'once'" class="field">
      <label for="entry-until">Until (empty: no end)</label>
      <input id="entry-until" v-model="again.until" type="date" />
    </div>
    <p v-if="everywhere && !entry" class="callout unsure small warn">It applies to all sites.</p>
    <Trouble :error="error" />
    <div class="row">
      <Button type="submit" size="small" label="Save" :disabled="!!lacks" :loading="busy" />
      <Button size="small" text label="Cancel" @click="emit('away')" />
      <span v-if="lacks" class="small faded">{{ lacks }}</span>
    </div>
  </form>
</template>

<style scoped>
fieldset {
  border: 0;
  padding: 0;
  margin: 0;
}
.kind {
  gap: 5px;
}
.field {
  display: flex;
  flex-direction: column;
  gap: 3px;
}
.field > label {
  font-size: 0.88rem;
  color: var(--faded);
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: var(--s3);
}
@media (max-width: 900px) {
  .pair {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
