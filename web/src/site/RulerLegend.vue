<script setup lang="ts">
/** What the signs on the rulers mean, and how their axis is divided. */
import Button from "primevue/button";
import StateGlyph from "../shared/StateGlyph.vue";

defineProps<{ freezes: boolean }>();
const toTime = defineModel<boolean>({ required: true });
</script>

<template>
  <div class="spread small faded">
    <span class="row">
      <span v-for="v in ['clear', 'broken', 'unsure', 'not checked']" :key="v"><StateGlyph :state="v" /></span>
      <span>number: looks that were clear</span>
      <span><i class="line" aria-hidden="true" /> promoted</span>
      <span><i class="line bow" aria-hidden="true" /> rolled back to</span>
      <span><i class="line out" aria-hidden="true" /> changed outside</span>
      <span v-if="freezes"><i class="hatched" aria-hidden="true" /> freeze</span>
    </span>
    <span class="row">
      {{ toTime ? "True to time." : "Equal steps, not true to time." }}
      <Button size="small" text :label="toTime ? 'Equal steps' : 'True to time'" @click="toTime = !toTime" />
    </span>
  </div>
</template>

<style scoped>
.row {
  gap: 2px var(--s3);
}
:deep(.glyph) {
  font-weight: 400;
}
.line {
  display: inline-block;
  width: 24px;
  vertical-align: middle;
  border-top: 2.5px solid var(--deep);
}
.bow {
  border-top: 2px dashed var(--unsure);
}
.out {
  border-top: 3px dotted var(--broken);
}
.hatched {
  display: inline-block;
  width: 24px;
  height: 12px;
  vertical-align: middle;
  border: 1px solid var(--rule-strong);
  background: repeating-linear-gradient(45deg, var(--rule-strong) 0 2px, transparent 2px 5px);
}
</style>
