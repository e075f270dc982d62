<script setup lang="ts">
/** What is done on a site again and again by itself, and adding to it. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref } from "vue";
import { useScheduleActs, useSchedules, type ScheduleWords } from "../api/schedules";
import { useSession } from "../api/session";
import { againOf, againSaid, ruleOf } from "./calendar";
import StateGlyph from "./StateGlyph.vue";
import Trouble from "./Trouble.vue";
import When from "./When.vue";

const props = defineProps<{ site: number }>();
const { may } = useSession();
const { data: schedules } = useSchedules(() => props.site);
const acts = useScheduleActs();
const names = { check: "Check production as it is", drift: "Read all environments" };

const adding = ref(false);
const empty = (): ScheduleWords => ({
  what: "check",
  begins: "",
  zone: Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC",
  rule: "FREQ=DAILY",
  quiet: { from: "", to: "" },
});
const words = ref(empty());
const again = ref(againOf("FREQ=DAILY"));
const lacks = computed(() => (words.value.begins ? "" : "Say when the first time is."));
async function add() {
  await acts.add.mutateAsync({ site: props.site, schedule: { ...words.value, rule: ruleOf(again.value) } });
  adding.value = false;
  words.value = empty();
}
</script>

<template>
  <section class="stack" aria-label="Scheduled">
    <div class="spread">
      <h2>Done by itself</h2>
      <Button v-if="may('work') && !adding" size="small" outlined label="Schedule something" @click="adding = true" />
    </div>
    <form v-if="adding" class="stack sheet" @submit.prevent="!lacks && add()">
      <label class="field"
        >What
        <select v-model="words.what" v-focus>
          <option v-for="(name, what) in names" :key="what" :value="what">{{ name }}</option>
        </select></label
      >
      <div class="pair">
        <label class="field">First on <input v-model="words.begins" type="datetime-local" /></label>
        <label class="field"
          >Recurs
          <select v-model="again.how">
            <option value="daily">each day</option>
            <option value="weekly">each week</option>
            <option value="monthly">each month</option>
          </select></label
        >
      </div>
      <div class="pair">
        <label class="field">Time zone <InputText v-model="words.zone" size="small" list="zones" /></label>
        <div class="field">
          Quiet hours, in which it waits
          <span class="row hours"
            ><input v-model="words.quiet.from" type="time" aria-label="Quiet from" /> to
            <input v-model="words.quiet.to" type="time" aria-label="Quiet to"
          /></span>
        </div>
      </div>
      <Trouble :error="acts.add.error.value" />
      <div class="row">
        <Button type="submit" size="small" label="Save" :disabled="!!lacks" :loading="acts.add.isPending.value" />
        <Button size="small" text label="Cancel" @click="adding = false" />
        <span v-if="lacks" class="small faded">{{ lacks }}</span>
      </div>
    </form>
    <p v-if="!schedules?.length && !adding" class="faded small">Nothing is scheduled.</p>
    <ul class="plain-list">
      <li v-for="s in schedules" :key="s.id" class="owned">
        <span>
          {{ names[s.schedule.what] }}, {{ againSaid(s.schedule.rule) }}
          <span class="small faded">
            <template v-if="s.paused">paused</template>
            <template v-else-if="s.next">next <When :at="s.next" /></template>
            <template v-else>over</template>
            <template v-if="s.schedule.quiet.from"
              >; quiet from {{ s.schedule.quiet.from }} to {{ s.schedule.quiet.to }}</template
            >
            <template v-if="s.lastRun"
              >; last <RouterLink :to="`/runs/${s.lastRun.id}`">run {{ s.lastRun.id }}</RouterLink>
              <StateGlyph :state="s.lastRun.finishedAt ? s.lastRun.verdict || s.lastRun.state : s.lastRun.state" />
            </template>
          </span>
          <span v-if="s.said" class="small">{{ s.said }}</span>
        </span>
        <span v-if="may('work')" class="row acts">
          <Button
            size="small"
            text
            :label="s.paused ? 'Go on' : 'Pause'"
            @click="acts.edit.mutate({ ...s, paused: !s.paused })"
          />
          <Button size="small" text label="Remove" @click="acts.remove.mutate(s.id)" />
        </span>
      </li>
    </ul>
    <Trouble :error="acts.edit.error.value ?? acts.remove.error.value" />
  </section>
</template>

<style scoped>
.field {
  display: flex;
  flex-direction: column;
  gap: 3px;
  font-size: 0.88rem;
  color: var(--faded);
}
.pair {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: var(--s3);
}
.hours {
  flex-wrap: nowrap;
}
.acts {
  gap: 0;
  flex-wrap: nowrap;
}
</style>
