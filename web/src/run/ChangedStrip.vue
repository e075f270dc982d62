<script setup lang="ts">
/** Small pictures of what looks different, the largest difference first. */
import { computed } from "vue";
import { largest } from "./map";
import type { Finding, Run } from "./queries";

const props = defineProps<{ run: Run }>();
const chosen = defineModel<number | undefined>({ required: true });
const most = 6;
const shown = computed(() => (props.run.gone ? [] : largest(props.run.findings, most)));
const where = (f: Finding) => `${f.page} · ${f.device}${f.persona === "visitor" ? "" : ` · ${f.persona}`}`;
</script>

<template>
  <section v-if="shown.length" aria-labelledby="strip-title">
    <h2 id="strip-title">What looks different<span class="small faded order">largest first</span></h2>
    <ul class="plain-list gallery">
      <li v-for="f in shown" :key="f.id">
        <button type="button" :class="{ here: f.id === chosen }" :aria-pressed="f.id === chosen" @click="chosen = f.id">
          <img :src="`/api/v1/findings/${f.id}/thumbnail.png`" alt="" loading="lazy" width="240" height="150" />
          <span class="small">{{ where(f) }}</span>
        </button>
      </li>
    </ul>
  </section>
</template>

<style scoped>
.order {
  font-family: var(--text);
  font-style: normal;
  font-weight: 400;
  margin-left: var(--s3);
}
.gallery {
  display: flex;
  gap: var(--s2);
  overflow-x: auto;
  padding-bottom: 4px;
}
button {
  font: inherit;
  color: inherit;
  background: none;
  border: 1px solid var(--rule);
  padding: 2px;
  cursor: pointer;
  display: flex;
  flex-direction: column;
  gap: 2px;
  text-align: left;
  width: 172px;
}
button.here {
  border-color: var(--deep);
  background: var(--shoal);
}
img {
  width: 166px;
  height: 104px;
  object-fit: contain;
  background: #fff;
}
span {
  overflow-wrap: anywhere;
}
</style>
