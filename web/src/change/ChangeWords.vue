<script setup lang="ts">
/** What a change is called, why it is made and what it should improve; edited in place, in any state. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import Textarea from "primevue/textarea";
import { nextTick, ref, useTemplateRef } from "vue";
import PrintButton from "../shared/PrintButton.vue";
import { putTogether, type Words } from "./words";
import { useChangeActs, type Change } from "./queries";
import Trouble from "../shared/Trouble.vue";

const props = defineProps<{ change: Change; editable: boolean; saved: () => Promise<boolean> }>();
const { describe: act } = useChangeActs();
const words = ref<Words>();
/** What stood there when it was last looked at: what somebody else sets meanwhile is never overwritten unseen. */
let was: Words;
const met = ref("");
const input = useTemplateRef<{ $el: HTMLInputElement }>("input");
const now = (): Words => ({ title: props.change.title, reason: props.change.reason, effect: props.change.effect });

async function edit() {
  act.reset();
  met.value = "";
  was = now();
  words.value = { ...was };
  await nextTick();
  input.value?.$el.select();
}
async function save() {
  if (!(await props.saved())) return; // why not stands beside the settings
  const theirs = now();
  const together = putTogether(was, theirs, words.value!);
  was = theirs;
  words.value = together.words;
  met.value = together.met.map((m) => `Somebody else set ${m.what} to “${m.theirs}” meanwhile.`).join(" ");
  if (met.value) return;
  await act.mutateAsync({ id: props.change.id, version: props.change.version, ...together.words });
  words.value = undefined;
}
</script>

<template>
  <form v-if="words" class="stack words" @submit.prevent="save" @keydown.esc="words = undefined">
    <label for="title">Title</label>
    <InputText id="title" ref="input" v-model="words.title" required maxlength="200" />
    <label for="reason">Why</label>
    <Textarea id="reason" v-model="words.reason" rows="2" auto-resize />
    <label for="effect">What should get better</label>
    <Textarea id="effect" v-model="words.effect" rows="2" auto-resize />
    <Trouble :error="act.error.value" />
    <p v-if="met" class="callout unsure" role="alert">{{ met }} Nothing was saved. Save again to use your text.</p>
    <div class="row">
      <Button type="submit" label="Save" :disabled="!words.title.trim()" :loading="act.isPending.value" />
      <Button label="Cancel" text @click="words = undefined" />
    </div>
  </form>
  <template v-else>
    <div class="row">
      <h1>{{ change.title }}</h1>
      <Button v-if="editable" size="small" text label="Edit title and reason" @click="edit" />
      <PrintButton />
    </div>
    <p v-if="change.reason || change.effect" class="faded">
      {{ change.reason }}<template v-if="change.effect"> Expected: {{ change.effect }}</template>
    </p>
  </template>
</template>

<style scoped>
.words {
  max-width: 44rem;
  margin-bottom: var(--s3);
}
</style>
