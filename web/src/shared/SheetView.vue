<script setup lang="ts">
/** Every component in every state, for whoever works on the look. Only when developing. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { ref } from "vue";
import type { Schemas } from "../api/client";
import AskState from "./AskState.vue";
import Fingerprint from "./Fingerprint.vue";
import SettingField from "../change/SettingField.vue";
import StateGlyph from "./StateGlyph.vue";
import Trouble from "./Trouble.vue";
import When from "./When.vue";

const states = ["clear", "broken", "unsure", "not checked", "running", "drafted", "checked", "promoted", "marked"];
const tones = [
  "paper",
  "sheet",
  "shoal",
  "ink",
  "faded",
  "rule",
  "rule-strong",
  "deep",
  "clear",
  "broken",
  "unsure",
  "blind",
];
const def = (over: Partial<Schemas["Definition"]>): Schemas["Definition"] => ({
  key: `a.${over.type}`,
  title: `A ${over.type}`,
  summary: "What it does, in one sentence.",
  group: "Group",
  type: "switch",
  default: false,
  role: "other",
  risk: 2,
  ...over,
});
const values = ref<Record<string, unknown>>({ on: true, n: 3, s: 7200, p: ["/cart", "/checkout"], t: "text" });
</script>

<template>
  <h1>Sheet</h1>
  <div class="tones">
    <span v-for="t in tones" :key="t"><i :style="{ background: `var(--${t})` }" />{{ t }}</span>
  </div>
  <p class="row">
    <StateGlyph v-for="s in states" :key="s" :state="s" />
  </p>
  <p class="row">
    <Button label="The next step" /><Button label="Another" outlined /><Button label="Lesser" text /><Button
      label="Not allowed"
      disabled
    /><Button label="Busy" loading /><InputText placeholder="Text" /><InputText model-value="Refused" invalid />
  </p>
  <p><Fingerprint value="1f0c9a7e55b2" /> · <When at="2026-11-25T10:00:00Z" /> · <When /></p>
  <Trouble :error="new Error('What went wrong, and what to do about it.')" />
  <AskState pending :error="null" what="The site" />
  <AskState :pending="false" :error="new Error('It does not answer.')" what="The site" />
  <SettingField v-model="values.on" :def="def({ type: 'switch' })" :base="false" :disabled="false" />
  <SettingField v-model="values.n" :def="def({ type: 'whole', risk: 0 })" :base="3" :disabled="false" />
  <SettingField
    v-model="values.s"
    :def="def({ type: 'seconds', risk: 1 })"
    :base="600"
    :disabled="false"
    refusal="must be at most 3600 seconds"
  />
  <SettingField v-model="values.p" :def="def({ type: 'patterns', risk: 3 })" :base="[]" :disabled="false" />
  <SettingField v-model="values.t" :def="def({ type: 'text' })" base="text" disabled />
</template>

<style scoped>
.tones {
  display: flex;
  margin: var(--s3) 0;
}
.tones span {
  flex: 1;
  padding: 4px;
  font-size: 0.75rem;
  color: var(--faded);
  border: 1px solid var(--rule);
}
.tones i {
  display: block;
  height: 24px;
}
</style>
