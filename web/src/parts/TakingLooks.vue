<script setup lang="ts">
/** Who looks at a site that is being taken on, and what has to work there: edited step by step, run on the spot. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref } from "vue";
import { useTakingActs, type Taking } from "../api/takings";
import StateGlyph from "./StateGlyph.vue";
import StepEditor from "./StepEditor.vue";
import StepList from "./StepList.vue";
import Trouble from "./Trouble.vue";
import { lacking, linesOf, stepOf, type Line } from "./steps";

const props = defineProps<{ taking: Taking }>();
const acts = useTakingActs();
type Kind = "personas" | "journeys";

/** What is being edited; index -1 is a new one. */
const edited = ref<{
  kind: Kind;
  index: number;
  name: string;
  persona: string;
  devices: ("desktop" | "phone")[];
  stagingOnly: boolean;
  marks: string;
  lines: Line[];
  leave: Line[];
}>();
const first = computed(() => props.taking.environments[0]?.name ?? "staging");

function edit(kind: Kind, index: number) {
  const p = kind === "personas" ? props.taking.personas[index] : undefined;
  const j = kind === "journeys" ? props.taking.journeys[index] : undefined;
  edited.value = {
    kind,
    index,
    name: p?.name ?? j?.name ?? "",
    persona: j?.persona ?? "visitor",
    devices: (j?.devices as ("desktop" | "phone")[]) ?? ["desktop", "phone"],
    stagingOnly: j ? !!j.where?.length : true,
    marks: (p?.marks ?? []).join(", "),
    lines: (p?.prepare ?? j?.steps ?? [{ go: "/" }]).flatMap(linesOf),
    leave: (p?.leave ?? []).flatMap(linesOf),
  };
}
const whole = computed(
  () => !!edited.value?.name.trim() && [...edited.value.lines, ...edited.value.leave].every((l) => !lacking(l)),
);

async function keep() {
  const e = edited.value!;
  const { id, personas, journeys } = props.taking;
  const steps = e.lines.map(stepOf);
  const put = <T,>(list: T[], one: T) => (e.index < 0 ? [...list, one] : list.map((x, n) => (n === e.index ? one : x)));
  if (e.kind === "personas") {
    const was = personas[e.index];
    const marks = e.marks.split(",").flatMap((m) => m.trim() || []);
    const one = {
      ...was,
      name: e.name.trim(),
      kind: was?.kind ?? "member",
      marks,
      prepare: steps,
      leave: e.leave.map(stepOf),
    };
    await acts.looks.mutateAsync({ id, personas: put(personas, one), journeys });
  } else {
    const one = {
      ...journeys[e.index],
      name: e.name.trim(),
      persona: e.persona,
      devices: e.devices,
      where: e.stagingOnly ? [first.value] : undefined,
      steps,
    };
    await acts.looks.mutateAsync({ id, personas, journeys: put(journeys, one) });
  }
  edited.value = undefined;
}
function without(kind: Kind, i: number) {
  const { id, personas, journeys } = props.taking;
  const left = <T,>(list: T[], of: Kind) => (kind === of ? list.filter((_, n) => n !== i) : list);
  acts.looks.mutate({ id, personas: left(personas, "personas"), journeys: left(journeys, "journeys") });
}
const running = ref("");
async function run(what: { persona?: string; journey?: string }, device: string) {
  running.value = `${what.persona ?? what.journey} on ${device}`;
  await acts.run.mutateAsync({ id: props.taking.id, ...what, device: device === "phone" ? "phone" : "desktop" });
}
const worked = computed(() => {
  const l = acts.run.data.value;
  return l && !l.missing && (l.outcome.steps ?? []).every((s) => !s.why);
});
</script>

<template>
  <table class="tide">
    <thead>
      <tr>
        <th>What</th>
        <th>Steps</th>
        <th>Where</th>
        <th><span class="visually-hidden">What can be done</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(p, i) in taking.personas" :key="`p${i}`">
        <td>
          <b>{{ p.name }}</b> signs in
        </td>
        <td class="small">{{ (p.prepare ?? []).length }} steps; give it name and password</td>
        <td>staging, production</td>
        <td class="row">
          <Button size="small" outlined label="Try" @click="run({ persona: p.name }, 'desktop')" />
          <Button size="small" text label="Edit" :aria-label="`Edit ${p.name}`" @click="edit('personas', i)" />
          <Button size="small" text label="Leave out" @click="without('personas', i)" />
        </td>
      </tr>
      <tr v-for="(j, i) in taking.journeys" :key="`j${i}`">
        <td>
          <b>{{ j.name }}</b>
        </td>
        <td class="small">{{ (j.steps ?? []).length }} steps, {{ (j.devices ?? []).join(" and ") }}</td>
        <td>{{ (j.where ?? []).length ? "staging only" : "staging, production" }}</td>
        <td class="row">
          <Button
            v-for="d in j.devices ?? []"
            :key="d"
            size="small"
            outlined
            :label="`Run on ${d}`"
            :aria-label="`Run on ${d}: ${j.name}`"
            @click="run({ journey: j.name }, d)"
          />
          <Button size="small" text label="Edit" :aria-label="`Edit ${j.name}`" @click="edit('journeys', i)" />
          <Button size="small" text label="Leave out" @click="without('journeys', i)" />
        </td>
      </tr>
    </tbody>
  </table>
  <p class="row">
    <Button size="small" text label="Add a journey" @click="edit('journeys', -1)" />
    <Button size="small" text label="Add somebody who looks" @click="edit('personas', -1)" />
  </p>
  <form v-if="edited" class="editor stack" aria-label="Edit the steps" @submit.prevent="keep">
    <div class="row">
      <label for="look-name">Name</label>
      <InputText id="look-name" v-model="edited.name" size="small" required maxlength="100" />
      <template v-if="edited.kind === 'journeys'">
        <label for="look-who">taken by</label>
        <select id="look-who" v-model="edited.persona">
          <option>visitor</option>
          <option v-for="p in taking.personas" :key="p.name">{{ p.name }}</option>
        </select>
        <label v-for="d in ['desktop', 'phone']" :key="d"
          ><input v-model="edited.devices" type="checkbox" :value="d" /> {{ d }}</label
        >
        <label><input v-model="edited.stagingOnly" type="checkbox" /> on {{ first }} only</label>
      </template>
      <template v-else>
        <label for="look-marks">only they may see</label>
        <InputText id="look-marks" v-model="edited.marks" size="small" placeholder="name, mail address, order number" />
      </template>
    </div>
    <StepEditor v-model="edited.lines" />
    <template v-if="edited.kind === 'personas'">
      <p class="small faded">
        <code v-pre>{canary}</code> in what is filled in stands for a word made up each time. Where it turns up for
        somebody else is a leak.
      </p>
      <h3>Signs out by</h3>
      <StepEditor v-model="edited.leave" of="signing out" />
    </template>
    <Trouble :error="acts.looks.error.value" />
    <div class="row">
      <Button type="submit" size="small" label="Keep" :disabled="!whole" :loading="acts.looks.isPending.value" />
      <Button size="small" text label="Put it away" @click="edited = undefined" />
    </div>
  </form>
  <p v-if="acts.run.isPending.value" aria-live="polite" class="faded">Running {{ running }} …</p>
  <Trouble :error="acts.run.error.value" />
  <div v-if="acts.run.data.value" class="ran">
    <p>
      <StateGlyph :state="worked ? 'clear' : 'broken'" :word="worked ? 'it works' : 'it does not work'" />
      {{ running }}
    </p>
    <StepList :now="acts.run.data.value" />
  </div>
</template>

<style scoped>
.editor {
  background: var(--sheet);
  border: 1px solid var(--rule-strong);
  padding: var(--s3);
  margin: var(--s2) 0;
}
.ran {
  border-left: 4px solid var(--rule-strong);
  padding-left: var(--s3);
  margin: var(--s3) 0;
}
</style>
