<script setup lang="ts">
/** What is scheduled on a site, and adding to it. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref } from "vue";
import { useScheduleActs, useSchedules, useTidies, type ScheduleWords } from "./schedules";
import { useSession } from "../api/session";
import { againOf, againSaid, ruleOf } from "./calendar";
import BackupForm from "../change/BackupForm.vue";
import StateGlyph from "../shared/StateGlyph.vue";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";
import { useAsking } from "../shared/asking";

const ask = useAsking();
const props = defineProps<{ site: number }>();
const { may } = useSession();
const { data: schedules } = useSchedules(() => props.site);
const acts = useScheduleActs();
const names = {
  check: "Check production",
  drift: "Read all environments",
  tidy: "Tidy production",
};
const { data: tidies } = useTidies(() => props.site);
const tidyOf = (change?: number) => tidies.value?.find((t) => t.change === change);
/** What may be chosen: what deletes data is an approver's, and has been carried out once. */
const offered = computed(() =>
  Object.entries(names).filter(([what]) => what !== "tidy" || (may("decide") && tidies.value?.length)),
);
const tidy = ref<{ change?: number; most?: number }>({});
const chosen = computed(() => tidyOf(tidy.value.change));
const counted = computed(() => chosen.value?.counted.reduce((n, c) => n + c.records, 0) ?? 0);

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
const lacks = computed(() => {
  if (words.value.what === "tidy" && !chosen.value) return "Choose what is deleted.";
  if (words.value.what === "tidy" && chosen.value?.why) return chosen.value.why;
  if (words.value.what === "tidy" && !tidy.value.most) return "Say how many records may be deleted at most.";
  return words.value.begins ? "" : "Say when it starts.";
});
function choose(what: ScheduleWords["what"]) {
  if (what === "tidy") again.value = againOf("FREQ=MONTHLY");
}
async function add() {
  const { change, most } = tidy.value;
  await acts.add.mutateAsync({
    site: props.site,
    schedule: {
      ...words.value,
      rule: ruleOf(again.value),
      tidy: words.value.what === "tidy" && change && most ? { change, most } : undefined,
    },
  });
  adding.value = false;
  words.value = empty();
  tidy.value = {};
}
</script>

<template>
  <section class="stack" aria-label="Scheduled">
    <div class="spread">
      <h2>Scheduled</h2>
      <Button v-if="may('work') && !adding" size="small" outlined label="Add a schedule" @click="adding = true" />
    </div>
    <form v-if="adding" class="stack sheet" @submit.prevent="!lacks && add()">
      <label class="field"
        >What
        <select v-model="words.what" v-focus @change="choose(words.what)">
          <option v-for="[what, name] in offered" :key="what" :value="what">{{ name }}</option>
        </select></label
      >
      <template v-if="words.what === 'tidy'">
        <div class="pair">
          <label class="field"
            >What is deleted
            <select v-model="tidy.change">
              <option v-for="t in tidies" :key="t.change" :value="t.change">{{ t.title }}</option>
            </select></label
          >
          <label class="field"
            >Records at most <input v-model.number="tidy.most" type="number" min="1" step="1"
          /></label>
        </div>
        <p v-if="chosen && !chosen.why" class="small">
          Now it would delete {{ counted }}:
          <template v-for="(c, i) in chosen.counted" :key="c.key"
            >{{ i ? "; " : "" }}{{ c.title }} {{ c.records }}</template
          >. It deletes on production only, waits for a backup of the last day, and is paused when far more or fewer
          records would go than usual.
        </p>
      </template>
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
          Quiet hours, when it waits
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
            <template v-if="s.schedule.tidy"
              >; “{{ tidyOf(s.schedule.tidy.change)?.title ?? `change ${s.schedule.tidy.change}` }}”, at most
              {{ s.schedule.tidy.most }} records at once<template v-if="s.usual !== undefined"
                >, about {{ s.usual }} are usual by now</template
              ></template
            >
            <template v-if="s.schedule.quiet.from"
              >; quiet from {{ s.schedule.quiet.from }} to {{ s.schedule.quiet.to }}</template
            >
            <template v-if="s.lastRun"
              >; last <RouterLink :to="`/runs/${s.lastRun.id}`">run {{ s.lastRun.id }}</RouterLink>
              <StateGlyph :state="s.lastRun.finishedAt ? s.lastRun.verdict || s.lastRun.state : s.lastRun.state" />
            </template>
          </span>
          <span v-if="s.said" class="small said">{{ s.said }}</span>
          <BackupForm v-if="s.backup && may('work')" :environment="s.backup.environment" :name="s.backup.name" />
        </span>
        <span v-if="may('work')" class="row acts">
          <Button
            v-if="!s.paused || s.schedule.what !== 'tidy' || may('decide')"
            size="small"
            text
            :label="s.paused ? 'Go on' : 'Pause'"
            @click="acts.edit.mutate({ ...s, paused: !s.paused })"
          />
          <Button
            size="small"
            text
            label="Remove"
            @click="
              ask({
                title: 'Remove the schedule?',
                says: `“${names[s.schedule.what]}, ${againSaid(s.schedule.rule)}” will no longer run.`,
                verb: 'Remove it',
                go: () => acts.remove.mutate(s.id),
              })
            "
          />
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
.said {
  display: block;
}
.acts {
  gap: 0;
  flex-wrap: nowrap;
}
@media (max-width: 900px) {
  .pair {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
