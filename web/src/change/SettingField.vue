<script setup lang="ts">
/** One setting of the catalogue, being edited. */
import Button from "primevue/button";
import InputNumber from "primevue/inputnumber";
import InputText from "primevue/inputtext";
import Textarea from "primevue/textarea";
import ToggleSwitch from "primevue/toggleswitch";
import { computed } from "vue";
import type { Schemas } from "../api/client";
import { span } from "../shared/wording";

const props = defineProps<{
  def: Schemas["Definition"];
  base: unknown;
  disabled: boolean;
  refusal?: string;
  /** Why the host cannot support it, and what would do instead. */
  lacking?: string;
}>();
const value = defineModel<unknown>({ required: true });
// What the host cannot support can still be switched off.
const locked = computed(() => props.disabled || (!!props.lacking && (value.value === false || !changed.value)));
const changed = computed(() => JSON.stringify(props.base) !== JSON.stringify(value.value));
const lines = computed({
  get: () => ((value.value as string[] | undefined) ?? []).join("\n"),
  set: (t: string) =>
    (value.value = t
      .split("\n")
      .map((l) => l.trim())
      .filter(Boolean)),
});
const risks = ["cannot break a page", "rarely breaks a page", "breaks some pages", "breaks some sites"];
const said = computed(() =>
  props.def.type === "seconds" && Number(value.value) >= 60 ? span(Number(value.value)) : "",
);
</script>

<template>
  <div class="field" :class="{ changed }">
    <div class="words">
      <label :id="`${def.key}-name`" :for="def.key"
        ><strong>{{ def.title }}</strong></label
      >
      <span class="risk" :title="`Risk ${def.risk} of 3: ${risks[def.risk]}`"
        ><span aria-hidden="true">{{ "▾".repeat(def.risk) }}</span
        ><span class="visually-hidden">{{ risks[def.risk] }}</span></span
      >
      <p class="small faded">{{ def.summary }}</p>
      <p v-if="lacking" class="small lacking">{{ lacking }}</p>
      <p v-if="refusal" :id="`${def.key}-refusal`" class="refusal" aria-live="polite">{{ refusal }}</p>
    </div>
    <div class="input">
      <ToggleSwitch
        v-if="def.type === 'switch'"
        :model-value="value as boolean"
        :input-id="def.key"
        :disabled="locked"
        @update:model-value="value = $event"
      />
      <template v-else-if="def.type === 'whole' || def.type === 'seconds'">
        <InputNumber
          :model-value="value as number"
          :input-id="def.key"
          :min="def.min"
          :max="def.max"
          :disabled="locked"
          :use-grouping="false"
          size="small"
          :suffix="def.type === 'seconds' ? ' s' : ''"
          @update:model-value="value = $event ?? base"
        />
        <span class="small faded">{{ said }}</span>
      </template>
      <select
        v-else-if="def.type === 'choice'"
        :id="def.key"
        v-model="value"
        :aria-labelledby="`${def.key}-name`"
        :disabled="locked"
      >
        <option v-for="c in def.choices" :key="c.value" :value="c.value">{{ c.title }}</option>
      </select>
      <Textarea
        v-else-if="def.type === 'patterns'"
        :id="def.key"
        v-model.lazy="lines"
        :aria-describedby="refusal ? `${def.key}-refusal` : undefined"
        :rows="Math.max(2, ((value as string[]) ?? []).length + 1)"
        class="mono"
        placeholder="one pattern a line"
        :disabled="locked"
        spellcheck="false"
      />
      <InputText
        v-else
        :id="def.key"
        v-model.lazy="value as string"
        :disabled="locked"
        size="small"
        :aria-describedby="refusal ? `${def.key}-refusal` : undefined"
      />
      <Button v-if="changed && !disabled" label="as before" text size="small" @click="value = base" />
    </div>
  </div>
</template>

<style scoped>
.field {
  display: grid;
  grid-template-columns: 1fr 15rem;
  gap: var(--s3);
  padding: 7px 0 7px var(--s2);
  border-bottom: 1px solid var(--rule);
  border-left: 4px solid transparent;
}
.changed {
  border-left-color: var(--deep);
  background: var(--shoal);
}
.risk {
  color: var(--unsure);
  margin-left: 6px;
  letter-spacing: 1px;
}
.lacking {
  border-left: 3px solid var(--blind);
  padding-left: 6px;
}
.refusal {
  color: var(--broken);
  font-weight: 600;
}
.input {
  display: flex;
  gap: 6px;
  align-items: center;
  flex-wrap: wrap;
}
textarea {
  width: 100%;
}
.input :deep(input.p-inputnumber-input) {
  width: 8rem;
}
@media (max-width: 900px) {
  .field {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
