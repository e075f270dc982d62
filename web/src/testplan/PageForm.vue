<script setup lang="ts">
/** One page that is watched. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed } from "vue";
import type { Schemas } from "../api/client";
import FormFrame from "../shared/FormFrame.vue";
import { unfinishedPage, type PageDraft } from "./looks";

const props = defineProps<{
  pages: Schemas["Page"][];
  personas: string[];
  classes: readonly string[];
  busy?: boolean;
}>();
const draft = defineModel<PageDraft>({ required: true });
defineEmits<{ keep: []; away: [] }>();
const lacks = computed(() => unfinishedPage(draft.value, props.pages));
</script>

<template>
  <FormFrame label="Edit the page" :lacks="lacks" :busy="busy" @keep="$emit('keep')" @away="$emit('away')">
    <div class="row">
      <label for="page-path">Path</label>
      <InputText id="page-path" v-model="draft.path" size="small" class="path" required maxlength="500" />
      <label for="page-class">class</label>
      <select id="page-class" v-model="draft.class">
        <option v-for="c in classes" :key="c">{{ c }}</option>
      </select>
    </div>
    <fieldset class="row">
      <legend>Personas</legend>
      <label v-for="p in ['visitor', ...personas]" :key="p"
        ><input v-model="draft.personas" type="checkbox" :value="p" /> {{ p }}</label
      >
    </fieldset>
    <fieldset class="row">
      <legend>on</legend>
      <label v-for="d in ['desktop', 'phone']" :key="d"
        ><input v-model="draft.devices" type="checkbox" :value="d" /> {{ d }}</label
      >
    </fieldset>
    <div class="row">
      <label for="page-form">A form on it can be sent for</label>
      <InputText id="page-form" v-model="draft.formLives" size="small" class="short" inputmode="numeric" />
      <span class="small faded">seconds after the page was generated; empty: unknown</span>
    </div>
    <div>
      <p class="row">
        <span>Masked parts</span>
        <Button size="small" text label="Add one" @click="draft.masks.push({ selector: '', reason: '' })" />
      </p>
      <ul class="plain-list">
        <li v-for="(m, i) in draft.masks" :key="i" class="row">
          <InputText v-model="m.selector" size="small" placeholder=".clock" :aria-label="`Selector of part ${i + 1}`" />
          <InputText
            v-model="m.reason"
            size="small"
            class="path"
            placeholder="why it may differ"
            :aria-label="`Why part ${i + 1} may differ`"
          />
          <Button
            size="small"
            text
            label="Remove"
            :aria-label="`Remove part ${i + 1}`"
            @click="draft.masks.splice(i, 1)"
          />
        </li>
      </ul>
    </div>
  </FormFrame>
</template>

<style scoped>
fieldset {
  border: 0;
  padding: 0;
  margin: 0;
}
legend {
  float: left;
  margin-right: var(--s3);
}
.path {
  flex: 1;
  min-width: 16rem;
}
.short {
  width: 6rem;
}
</style>
