<script setup lang="ts">
/** What a change will do to this site, read off the mark before anything is tried. */
import Button from "primevue/button";
import { ref } from "vue";
import { useChangeActs, usePredictions, type Change } from "./queries";
import { byList, pagesOf, recordOf, type Prediction } from "./prediction";
import Trouble from "../shared/Trouble.vue";
import { counted } from "../shared/wording";

const props = defineProps<{ change: Change; editable: boolean }>();
const {
  data: seen,
  error,
  isFetching,
} = usePredictions(
  () => props.change.id,
  () => props.change.fingerprint,
);
const { exclude: act } = useChangeActs();
const busy = ref<Prediction>();

async function exclude(p: Prediction) {
  busy.value = p;
  try {
    await act.mutateAsync({
      change: props.change.id,
      exclude: (p.exclude ?? []).map(({ key, pattern }) => ({ key, pattern })),
      reason: `Predicted with “${p.setting}”: ${p.title}.`,
    });
  } finally {
    busy.value = undefined;
  }
}
</script>

<template>
  <section class="stack" aria-label="What is predicted">
    <Trouble :error="error ?? act.error.value" />
    <template v-if="seen">
      <p v-if="seen.why" class="small faded">{{ seen.why }}</p>
      <template v-else>
        <p v-if="!(seen.predictions ?? []).length" class="small">
          <strong>Nothing predicted</strong> from
          <RouterLink :to="`/runs/${seen.markRun}`">mark {{ seen.mark }}</RouterLink
          >: {{ counted(seen.pages, "look") }} read. Trying it may find more.
        </p>
        <p v-else class="small">
          <strong>Predicted</strong>, read off what the pages of
          <RouterLink :to="`/runs/${seen.markRun}`">mark {{ seen.mark }}</RouterLink> were made of. Nothing was tried.
        </p>
        <ul class="plain-list" :aria-busy="isFetching">
          <li v-for="p in seen.predictions ?? []" :key="p.key + p.kind + p.about" class="predicted">
            <p>
              <b>{{ p.setting || p.key }}:</b> {{ p.title }}{{ p.sure ? "." : ", likely." }}
            </p>
            <details class="small">
              <summary>Why and where</summary>
              <p>{{ p.why }}</p>
              <p class="pages">
                <code v-for="page in pagesOf(p)" :key="page">{{ page }}</code>
              </p>
            </details>
            <template v-for="list in byList(p)" :key="list.key">
              <p class="small">
                To prevent it, exclude
                <template v-for="(pattern, i) in list.patterns" :key="pattern"
                  >{{ i ? ", " : "" }}<code>{{ pattern }}</code></template
                >
                in “{{ list.title }}”.
              </p>
            </template>
            <Button
              v-if="editable && (p.exclude ?? []).length"
              size="small"
              outlined
              :label="
                (p.exclude ?? []).length === 1
                  ? `Exclude ${p.exclude![0]!.pattern}`
                  : `Exclude these ${p.exclude!.length}`
              "
              :loading="busy === p"
              :disabled="busy !== undefined"
              @click="exclude(p)"
            />
          </li>
        </ul>
        <p v-if="recordOf(seen.record)" class="small faded">{{ recordOf(seen.record) }}</p>
      </template>
    </template>
  </section>
</template>

<style scoped>
.predicted {
  border-left: 4px double var(--unsure);
  padding: 2px 0 2px var(--s2);
  margin-bottom: var(--s3);
}
.pages code {
  display: inline-block;
  margin-right: var(--s2);
}
code {
  overflow-wrap: anywhere;
}
</style>
