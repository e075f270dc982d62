<script setup lang="ts">
/** Who looks at a site, what has to work, and what is published: edited step by step, run on the spot. */
import Button from "primevue/button";
import { computed, nextTick, ref, useTemplateRef } from "vue";
import type { Schemas } from "../api/client";
import LookForm from "./LookForm.vue";
import StateGlyph from "./StateGlyph.vue";
import StepList from "./StepList.vue";
import Trouble from "./Trouble.vue";
import { draftOf, withDraft, without, type Device, type Draft, type LookKind, type Looks } from "./looks";

type Ran = Schemas["Rehearsed"];
const props = defineProps<{
  looks: Looks;
  /** Paths of the pages that are watched. */
  pages: string[];
  /** The environment that things are tried on. */
  first: string;
  mayEdit: boolean;
  keep: (to: Looks) => Promise<unknown>;
  run: (what: Schemas["Rehearsal"]) => Promise<Ran>;
}>();

const draft = ref<Draft>();
const keeping = ref(false);
const trouble = ref<Error>();
async function put(to: Looks) {
  keeping.value = true;
  trouble.value = undefined;
  try {
    await props.keep({ personas: to.personas, journeys: to.journeys, edits: to.edits });
    draft.value = undefined;
  } catch (e) {
    trouble.value = e as Error;
  }
  keeping.value = false;
}
function edit(kind: LookKind, index: number) {
  trouble.value = undefined;
  draft.value = draftOf(kind, index, props.looks);
}

const running = ref("");
const ran = ref<{ as: string; persona?: string; look: Ran }>();
const noRun = ref<Error>();
const outcome = useTemplateRef("outcome");
async function rehearse(what: { persona?: string; journey?: string }, device: Device) {
  running.value = `${what.persona ?? what.journey} on ${device}`;
  ran.value = noRun.value = undefined;
  try {
    ran.value = { as: running.value, persona: what.persona, look: await props.run({ ...what, device }) };
  } catch (e) {
    noRun.value = e as Error;
  }
  running.value = "";
  await nextTick();
  outcome.value?.scrollIntoView({ block: "nearest" }); // the table above may be long
}
const worked = computed(() => {
  const l = ran.value?.look;
  return !!l && !l.missing && (l.outcome.steps ?? []).every((s) => !s.why);
});
/** The way out that was seen, as long as the persona has none. */
const wayOut = computed(() => {
  const r = ran.value;
  const i = props.looks.personas.findIndex((p) => p.name === r?.persona);
  if (!r?.look.leave?.length || i < 0 || props.looks.personas[i]!.leave?.length) return undefined;
  return { index: i, leave: r.look.leave, by: r.look.leave.find((s) => s.click)?.click?.name ?? "it" };
});
function takeWayOut() {
  const at = wayOut.value!;
  const personas = props.looks.personas.map((p, n) => (n === at.index ? { ...p, leave: at.leave } : p));
  void put({ ...props.looks, personas });
}
const count = (list: unknown[] | undefined, one: string) =>
  `${list?.length ?? 0} ${one}${list?.length === 1 ? "" : "s"}`;
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
      <tr v-for="(p, i) in looks.personas" :key="`p${i}`">
        <td>
          <b>{{ p.name }}</b>
          <span class="small faded">&#32;looks{{ p.kind === p.name ? "" : ` (${p.kind.replaceAll("-", " ")})` }}</span>
        </td>
        <td class="small">
          {{ count(p.prepare, "step") }}<template v-if="p.leave?.length">, {{ p.leave.length }} to sign out</template>
        </td>
        <td class="small">everywhere</td>
        <td>
          <div v-if="mayEdit" class="row acts">
            <Button
              size="small"
              outlined
              label="Try"
              :aria-label="`Try ${p.name}`"
              @click="rehearse({ persona: p.name }, 'desktop')"
            />
            <Button size="small" text label="Edit" :aria-label="`Edit ${p.name}`" @click="edit('personas', i)" />
            <Button
              size="small"
              text
              label="Leave out"
              :aria-label="`Leave out ${p.name}`"
              @click="put(without(looks, 'personas', i))"
            />
          </div>
        </td>
      </tr>
      <tr v-for="(j, i) in looks.journeys" :key="`j${i}`">
        <td>
          <b>{{ j.name }}</b> <span class="small faded">has to work for {{ j.persona || "visitor" }}</span>
        </td>
        <td class="small">{{ count(j.steps ?? [], "step") }}, {{ (j.devices ?? []).join(" and ") }}</td>
        <td class="small">{{ (j.where ?? []).join(", ") || "everywhere" }}</td>
        <td>
          <div v-if="mayEdit" class="row acts">
            <Button
              v-for="d in (j.devices ?? []) as Device[]"
              :key="d"
              size="small"
              outlined
              :label="`Run on ${d}`"
              :aria-label="`Run on ${d}: ${j.name}`"
              @click="rehearse({ journey: j.name }, d)"
            />
            <Button size="small" text label="Edit" :aria-label="`Edit ${j.name}`" @click="edit('journeys', i)" />
            <Button
              size="small"
              text
              label="Leave out"
              :aria-label="`Leave out ${j.name}`"
              @click="put(without(looks, 'journeys', i))"
            />
          </div>
        </td>
      </tr>
      <tr v-for="(e, i) in looks.edits" :key="`e${i}`">
        <td>
          <b>{{ e.name }}</b> <span class="small faded">is published by {{ e.persona }}, and taken back</span>
        </td>
        <td class="small">{{ count(e.steps ?? [], "step") }}, shows on {{ count(e.shows ?? [], "page") }}</td>
        <td class="small">{{ first }}</td>
        <td>
          <div v-if="mayEdit" class="row acts">
            <Button size="small" text label="Edit" :aria-label="`Edit ${e.name}`" @click="edit('edits', i)" />
            <Button
              size="small"
              text
              label="Leave out"
              :aria-label="`Leave out ${e.name}`"
              @click="put(without(looks, 'edits', i))"
            />
          </div>
        </td>
      </tr>
    </tbody>
  </table>
  <p v-if="mayEdit" class="row">
    <Button size="small" text label="Add a journey" @click="edit('journeys', -1)" />
    <Button size="small" text label="Add somebody who looks" @click="edit('personas', -1)" />
    <Button size="small" text label="Add something that is published" @click="edit('edits', -1)" />
  </p>
  <LookForm
    v-if="draft"
    :key="`${draft.kind} ${draft.index}`"
    v-model="draft"
    :personas="looks.personas.map((p) => p.name)"
    :pages="pages"
    :first="first"
    :busy="keeping"
    @keep="put(withDraft(looks, draft, first))"
    @away="draft = undefined"
  />
  <Trouble :error="trouble" />
  <p v-if="running" aria-live="polite" class="faded">Running {{ running }} …</p>
  <Trouble :error="noRun" />
  <div v-if="ran" ref="outcome" class="ran">
    <p>
      <StateGlyph :state="worked ? 'clear' : 'broken'" :word="worked ? 'it works' : 'it does not work'" />
      {{ ran.as }}
    </p>
    <StepList :now="ran.look" />
    <p v-if="wayOut && mayEdit" class="row">
      <span
        >There is “{{ wayOut.by }}”. What a browser is served after signing out is only looked at when it does.</span
      >
      <Button size="small" outlined label="Sign out by it" :loading="keeping" @click="takeWayOut" />
    </p>
  </div>
</template>

<style scoped>
td {
  vertical-align: middle !important;
}
.acts {
  gap: var(--s1, 4px);
  flex-wrap: nowrap;
}
.ran {
  border-left: 4px solid var(--rule-strong);
  padding-left: var(--s3);
  margin: var(--s3) 0;
}
</style>
