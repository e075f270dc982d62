<script setup lang="ts">
/** Who looks at a site, what has to work, and what is published: edited step by step, run on the spot. */
import { useMutation } from "@tanstack/vue-query";
import Button from "primevue/button";
import { computed, nextTick, ref, useTemplateRef } from "vue";
import { api, body, type Schemas } from "../api/client";
import LookForm from "./LookForm.vue";
import RowActs from "../shared/RowActs.vue";
import StateGlyph from "../shared/StateGlyph.vue";
import StepList from "./StepList.vue";
import Trouble from "../shared/Trouble.vue";
import {
  draftOf,
  draftOfRecording,
  withDraft,
  without,
  type Device,
  type Draft,
  type LookKind,
  type Looks,
} from "./looks";
import CsvFoot from "../shared/CsvFoot.vue";

const props = defineProps<{
  looks: Looks;
  /** Paths of the pages that are watched. */
  pages: string[];
  /** The environment that things are tried on. */
  first: string;
  mayEdit: boolean;
  /** The site, when it is one already: its journeys can be taken away as recordings. */
  site?: number;
  keep: (to: Looks) => Promise<unknown>;
  run: (what: Schemas["Rehearsal"]) => Promise<Schemas["Rehearsed"]>;
}>();

const draft = ref<Draft>();
const keeping = useMutation({
  mutationFn: (to: Looks) => props.keep({ personas: to.personas, journeys: to.journeys, publishing: to.publishing }),
  onSuccess: () => (draft.value = undefined),
});
const put = (to: Looks) => keeping.mutate(to);
function edit(kind: LookKind, index: number) {
  keeping.reset();
  draft.value = draftOf(kind, index, props.looks);
}

const recorder = useTemplateRef("recorder");
const recording = useMutation({
  mutationFn: async (file: File) => {
    const text = await file.text();
    let said: unknown;
    try {
      said = JSON.parse(text);
    } catch {
      throw new Error(
        `${file.name} is not a recording: it is not JSON. Export it from the browser's recorder panel as JSON.`,
      );
    }
    return body(api.POST("/api/v1/recordings", { body: said }));
  },
  onSuccess: (read) => (draft.value = draftOfRecording(read.journey, props.looks)),
});
function readFile(e: Event) {
  const input = e.target as HTMLInputElement;
  const file = input.files?.[0];
  if (file) recording.mutate(file);
  input.value = ""; // the same file can be chosen again
}

const rehearsal = useMutation({ mutationFn: (what: Schemas["Rehearsal"]) => props.run(what) });
const outcome = useTemplateRef("outcome");
async function rehearse(what: Schemas["Rehearsal"]) {
  await rehearsal.mutateAsync(what).catch(() => undefined); // it is shown below
  await nextTick();
  outcome.value?.scrollIntoView({ block: "nearest" }); // the table above may be long
}
const asked = computed(() => {
  const w = rehearsal.variables.value;
  return w ? `${w.persona ?? w.journey} on ${w.device}` : "";
});
const ran = computed(() => rehearsal.data.value);
const worked = computed(() => !!ran.value && !ran.value.missing && !ran.value.outcome.steps?.some((s) => s.why));
/** The way out that was seen, as long as the persona has none. */
const wayOut = computed(() => {
  const leave = ran.value?.signOut ?? [];
  const index = props.looks.personas.findIndex((p) => p.name === rehearsal.variables.value?.persona);
  if (!leave.length || index < 0 || props.looks.personas[index]!.signOut?.length) return undefined;
  return { index, signOut: leave, by: leave.find((s) => s.click)?.click?.name ?? "it" };
});
function takeWayOut() {
  const at = wayOut.value!;
  const personas = props.looks.personas.map((p, n) => (n === at.index ? { ...p, signOut: at.signOut } : p));
  put({ ...props.looks, personas });
}
const count = (list: unknown[] | undefined, one: string) =>
  `${list?.length ?? 0} ${one}${list?.length === 1 ? "" : "s"}`;
</script>

<template>
  <table v-listed class="tide">
    <thead>
      <tr>
        <th>What</th>
        <th>Steps</th>
        <th>Where</th>
        <th><span class="visually-hidden">Actions</span></th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(p, i) in looks.personas" :key="`p${i}`">
        <td>
          <b>{{ p.name }}</b>
          <span class="small faded">&#32;looks{{ p.kind === p.name ? "" : ` (${p.kind.replaceAll("-", " ")})` }}</span>
        </td>
        <td class="small">
          {{ count(p.prepare, "step")
          }}<template v-if="p.signOut?.length">, {{ p.signOut.length }} to sign out</template>
        </td>
        <td class="small">everywhere</td>
        <td>
          <RowActs
            v-if="mayEdit"
            :name="p.name"
            @edit="edit('personas', i)"
            @leave="put(without(looks, 'personas', i))"
          >
            <Button
              size="small"
              outlined
              label="Try"
              :aria-label="`Try ${p.name}`"
              @click="rehearse({ persona: p.name, device: 'desktop' })"
            />
          </RowActs>
        </td>
      </tr>
      <tr v-for="(j, i) in looks.journeys" :key="`j${i}`">
        <td>
          <b>{{ j.name }}</b> <span class="small faded">has to work for {{ j.persona || "visitor" }}</span>
        </td>
        <td class="small">{{ count(j.steps ?? [], "step") }}, {{ (j.devices ?? []).join(" and ") }}</td>
        <td class="small">{{ (j.where ?? []).join(", ") || "everywhere" }}</td>
        <td>
          <RowActs
            v-if="mayEdit"
            :name="j.name"
            @edit="edit('journeys', i)"
            @leave="put(without(looks, 'journeys', i))"
          >
            <Button
              v-for="d in (j.devices ?? []) as Device[]"
              :key="d"
              size="small"
              outlined
              :label="`Run on ${d}`"
              :aria-label="`Run on ${d}: ${j.name}`"
              @click="rehearse({ journey: j.name, device: d })"
            />
            <a
              v-if="site"
              class="small"
              :href="`/api/v1/sites/${site}/recording?journey=${encodeURIComponent(j.name)}`"
              download
              :aria-label="`${j.name} as a recording`"
              >Recording</a
            >
          </RowActs>
        </td>
      </tr>
      <tr v-for="(e, i) in looks.publishing" :key="`e${i}`">
        <td>
          <b>{{ e.name }}</b> <span class="small faded">is published by {{ e.persona }}, and undone</span>
        </td>
        <td class="small">{{ count(e.steps ?? [], "step") }}, shows on {{ count(e.shows ?? [], "page") }}</td>
        <td class="small">{{ first }}</td>
        <td>
          <RowActs
            v-if="mayEdit"
            :name="e.name"
            @edit="edit('publishing', i)"
            @leave="put(without(looks, 'publishing', i))"
          ></RowActs>
        </td>
      </tr>
    </tbody>
    <CsvFoot />
  </table>
  <p v-if="mayEdit" class="row">
    <Button size="small" text label="Add a journey" @click="edit('journeys', -1)" />
    <Button size="small" text label="Add a journey from a recording" @click="recorder?.click()" />
    <input
      ref="recorder"
      type="file"
      accept=".json,application/json"
      class="visually-hidden"
      tabindex="-1"
      aria-label="A recording from a browser’s recorder panel, as JSON"
      @change="readFile"
    />
    <Button size="small" text label="Add a persona" @click="edit('personas', -1)" />
    <Button size="small" text label="Add a publishing test" @click="edit('publishing', -1)" />
  </p>
  <Trouble :error="recording.error.value" />
  <ul v-if="draft && recording.data.value?.notes?.length" class="small" aria-live="polite">
    <li v-for="n in recording.data.value.notes" :key="n">{{ n }}</li>
  </ul>
  <LookForm
    v-if="draft"
    :key="`${draft.kind} ${draft.index}`"
    v-model="draft"
    :personas="looks.personas.map((p) => p.name)"
    :pages="pages"
    :first="first"
    :busy="keeping.isPending.value"
    @keep="put(withDraft(looks, draft, first))"
    @away="
      draft = undefined;
      recording.reset();
    "
  />
  <Trouble :error="keeping.error.value" />
  <p v-if="rehearsal.isPending.value" aria-live="polite" class="faded">Running {{ asked }} …</p>
  <Trouble :error="rehearsal.error.value" />
  <div v-if="ran" ref="outcome" class="ran">
    <p>
      <StateGlyph :state="worked ? 'clear' : 'broken'" :word="worked ? 'it works' : 'it does not work'" />
      {{ asked }}
    </p>
    <StepList :now="ran" />
    <p v-if="wayOut && mayEdit" class="row">
      <span>There is “{{ wayOut.by }}”. What a browser is served after signing out is only tested when it does.</span>
      <Button size="small" outlined label="Sign out by it" :loading="keeping.isPending.value" @click="takeWayOut" />
    </p>
  </div>
</template>

<style scoped>
td {
  vertical-align: middle !important;
}
.ran {
  border-left: 4px solid var(--rule-strong);
  padding-left: var(--s3);
  margin: var(--s3) 0;
}
</style>
