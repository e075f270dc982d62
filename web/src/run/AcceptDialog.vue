<script setup lang="ts">
/** Accepting a finding as expected: with what else, and for how long. */
import Button from "primevue/button";
import Dialog from "primevue/dialog";
import InputText from "primevue/inputtext";
import Textarea from "primevue/textarea";
import { computed, ref, watch } from "vue";
import { useRunActs, type Finding, type Run } from "./queries";
import { lasts, ofCause, ofPart, type Reach } from "./decisions";
import { useTold } from "../shared/told";
import Trouble from "../shared/Trouble.vue";

const props = defineProps<{ finding: Finding; run: Run; start: Reach }>();
const open = defineModel<boolean>({ required: true });
const { accept: act } = useRunActs();
const tell = useTold();
const why = ref("");
const reach = ref<Reach>("place");
const lasting = ref<"run" | "change" | "day">("run");
const day = ref("");
const reaches = computed(() => {
  const part = ofPart(props.finding, props.run.findings).length;
  const cause = ofCause(props.finding, props.run.findings).length;
  const all: { value: Reach; label: string }[] = [{ value: "place", label: "Only this place" }];
  all.push({
    value: "part",
    label: `This part everywhere${part > 1 ? `, ${part} findings here` : ""}: every page, person and device`,
  });
  if (cause > 1) all.push({ value: "cause", label: `The whole cause, ${cause} findings` });
  return all;
});
const longer = computed(() => lasts(props.finding));
const today = new Date().toISOString().slice(0, 10);
watch(open, (o) => {
  if (!o) return;
  reach.value = reaches.value.some((r) => r.value === props.start) ? props.start : "place";
  lasting.value = "run";
  why.value = "";
});
async function accept() {
  const { finding } = props;
  const how = reach.value;
  await act.mutateAsync({
    finding: props.finding.id,
    accepted: true,
    why: why.value,
    reach: reach.value,
    lasts: lasting.value,
    day: lasting.value === "day" ? day.value : undefined,
  });
  open.value = false;
  tell({
    says: `Accepted as expected: ${finding.title}.`,
    undo: () => act.mutateAsync({ finding: finding.id, accepted: false, why: "", reach: how }),
  });
}
</script>

<template>
  <Dialog v-model:visible="open" modal header="Accept as expected" :style="{ width: '32rem' }" :draggable="false">
    <form class="stack" @submit.prevent="accept">
      <p class="small faded">{{ finding.title }}</p>
      <label for="why">Why is this difference expected? It is recorded.</label>
      <Textarea id="why" v-model="why" rows="2" autofocus required />
      <fieldset>
        <legend class="small faded">Scope</legend>
        <label v-for="r in reaches" :key="r.value" class="choice"
          ><input v-model="reach" type="radio" name="reach" :value="r.value" /> {{ r.label }}</label
        >
      </fieldset>
      <fieldset>
        <legend class="small faded">Until when</legend>
        <label class="choice"><input v-model="lasting" type="radio" name="lasts" value="run" /> For this run</label>
        <template v-if="longer">
          <label v-if="run.change" class="choice"
            ><input v-model="lasting" type="radio" name="lasts" value="change" /> For all runs of this change</label
          >
          <label class="choice"
            ><input v-model="lasting" type="radio" name="lasts" value="day" /> For all runs of the site until
            <InputText
              v-model="day"
              type="date"
              :min="today"
              size="small"
              aria-label="Last day"
              @focus="lasting = 'day'"
          /></label>
          <p class="small faded">In later runs it is accepted only while it is the same difference and no worse.</p>
        </template>
        <p v-else class="small faded">Private content shown to others can be accepted for one run only.</p>
      </fieldset>
      <Trouble :error="act.error.value" />
      <Button
        type="submit"
        label="Accept"
        :disabled="!why.trim() || (lasting === 'day' && !day)"
        :loading="act.isPending.value"
      />
    </form>
  </Dialog>
</template>

<style scoped>
fieldset {
  border: 0;
  padding: 0;
  margin: 0;
}
.choice {
  display: flex;
  gap: var(--s2);
  align-items: center;
  padding: 3px 0;
}
</style>
