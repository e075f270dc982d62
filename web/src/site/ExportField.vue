<script setup lang="ts">
/** A settings file that was exported from a site: chosen, or pasted. */
import Textarea from "primevue/textarea";

defineProps<{ label: string; name: string }>();
const text = defineModel<string>({ required: true });
async function choose(e: Event) {
  const f = (e.target as HTMLInputElement).files?.[0];
  if (f) text.value = await f.text();
}
</script>

<template>
  <div class="stack">
    <label :for="name">{{ label }}</label>
    <input type="file" :aria-label="`A file: ${label}`" @change="choose" />
    <Textarea
      :id="name"
      v-model="text"
      rows="5"
      class="mono"
      spellcheck="false"
      placeholder="Any JSON, or lines of key = value"
    />
  </div>
</template>
