<script setup lang="ts">
/** One persona, journey or edit, step by step. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed } from "vue";
import FormFrame from "../shared/FormFrame.vue";
import { kindsOfPersona, unfinished, type Draft } from "./looks";
import StepEditor from "./StepEditor.vue";

const props = defineProps<{
  personas: string[];
  pages: string[];
  /** The environment that things are tried on. */
  first: string;
  busy?: boolean;
}>();
const draft = defineModel<Draft>({ required: true });
defineEmits<{ keep: []; away: [] }>();
const lacks = computed(() => unfinished(draft.value));
const words = {
  personas: { is: "A persona", steps: "Gets ready by", after: "Signs out by", of: "signing out" },
  journeys: { is: "A journey", steps: "Steps", after: "", of: "" },
  publishing: {
    is: "A publishing test",
    steps: "Published by",
    after: "Undone by",
    of: "undoing it",
  },
};
const said = computed(() => words[draft.value.kind]);
function show() {
  draft.value.shows.push({ page: props.pages.length === 1 ? props.pages[0]! : "", within: "" });
}
</script>

<template>
  <FormFrame label="Edit the steps" :lacks="lacks" :busy="busy" @keep="$emit('keep')" @away="$emit('away')">
    <h3>{{ said.is }}</h3>
    <div class="row">
      <label for="look-name">Name</label>
      <InputText id="look-name" v-model="draft.name" size="small" required maxlength="100" />
      <template v-if="draft.kind === 'personas'">
        <label for="look-kind">is a</label>
        <select id="look-kind" v-model="draft.who">
          <option v-for="k in kindsOfPersona" :key="k" :value="k">{{ k.replaceAll("-", " ") }}</option>
        </select>
        <label for="look-marks">private texts</label>
        <InputText
          id="look-marks"
          v-model="draft.privateTexts"
          size="small"
          class="wide"
          placeholder="name, mail address, order number"
        />
      </template>
      <template v-else>
        <label for="look-who">{{ draft.kind === "publishing" ? "published by" : "taken by" }}</label>
        <select id="look-who" v-model="draft.persona">
          <option>visitor</option>
          <option v-for="p in personas" :key="p">{{ p }}</option>
        </select>
      </template>
      <template v-if="draft.kind === 'journeys'">
        <label v-for="d in ['desktop', 'phone']" :key="d"
          ><input v-model="draft.devices" type="checkbox" :value="d" /> {{ d }}</label
        >
        <label><input v-model="draft.stagingOnly" type="checkbox" /> on {{ first }} only</label>
      </template>
    </div>
    <p v-if="draft.kind === 'publishing'" class="small faded">
      It is published on {{ first }} by “Test cache isolation” and by checks there, asked for, and undone. Never on
      production.
    </p>
    <h4>{{ said.steps }}</h4>
    <StepEditor v-model="draft.lines" />
    <p v-if="draft.kind !== 'journeys'" class="small faded">
      <code v-pre>{canary}</code> in a filled-in text is replaced by a word made up each time.
      {{
        draft.kind === "publishing"
          ? "It shows which edit a page has."
          : "If it shows for somebody else, that is a leak."
      }}
    </p>
    <template v-if="said.after">
      <h4>{{ said.after }}</h4>
      <StepEditor v-model="draft.after" :of="said.of" />
    </template>
    <template v-if="draft.kind === 'publishing'">
      <h4>Has to show on</h4>
      <ul class="plain-list">
        <li v-for="(s, i) in draft.shows" :key="i" class="row">
          <select v-model="s.page" :aria-label="`Page ${i + 1} that has to show it`">
            <option value="">choose a page</option>
            <option v-for="p in pages" :key="p">{{ p }}</option>
          </select>
          <label :for="`within-${i}`">within</label>
          <InputText :id="`within-${i}`" v-model="s.within" size="small" class="short" inputmode="numeric" />
          <span class="small faded">seconds; empty: as the settings say</span>
          <Button
            size="small"
            text
            label="Remove"
            :aria-label="`Remove page ${i + 1}`"
            @click="draft.shows.splice(i, 1)"
          />
        </li>
      </ul>
      <p><Button size="small" text label="Add a page" @click="show" /></p>
    </template>
  </FormFrame>
</template>

<style scoped>
h4 {
  font-family: var(--chart);
  font-style: italic;
  font-weight: 500;
  margin: 0;
}
.wide {
  flex: 1;
  min-width: 14rem;
}
.short {
  width: 5rem;
}
</style>
