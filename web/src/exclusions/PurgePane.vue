<script setup lang="ts">
/** Purges what is cached of a page, a class or all, or marks it stale, and warms it again. */
import Button from "primevue/button";
import { computed, ref, watch } from "vue";
import { useExclusionActs, type Cell } from "./queries";
import { useAsking } from "../shared/asking";
import Trouble from "../shared/Trouble.vue";
import { counted } from "../shared/wording";

const props = defineProps<{ site: number; environment: number; name: string; cell: Cell }>();
const ask = useAsking();
const acts = useExclusionActs(() => props.site);
const what = ref("");
const stale = ref(false);
const warm = ref(true);
watch(
  () => props.cell.class,
  () => (what.value = "class"),
  { immediate: true },
);
const about = computed(() =>
  what.value === "all"
    ? "all pages"
    : what.value === "class"
      ? `all pages of the class “${props.cell.class}”`
      : what.value,
);
function begin() {
  if (what.value.startsWith("/") || stale.value) return go();
  ask({
    title: `Purge ${about.value} on ${props.name}?`,
    says: `Every cached copy of ${about.value} on ${props.name} is deleted. Visitors who come next wait until each page is made again${warm.value ? "; pages of the test plan are fetched at once" : ""}.`,
    verb: `Purge on ${props.name}`,
    go,
  });
}
function go() {
  const page = what.value.startsWith("/") ? what.value : undefined;
  const cls = what.value === "class" ? props.cell.class : undefined;
  acts.purge.mutate({ environment: props.environment, page, class: cls, stale: stale.value, warm: warm.value });
}
</script>

<template>
  <form class="stack" aria-label="Purge cached pages" @submit.prevent="begin">
    <div class="row">
      <label for="purge-what">On {{ name }}, what is cached of</label>
      <select id="purge-what" v-model="what">
        <option value="class">the class “{{ cell.class }}”</option>
        <option v-for="p in cell.pages" :key="p.path" :value="p.path">{{ p.path }}</option>
        <option value="all">all pages</option>
      </select>
      <select v-model="stale" aria-label="How">
        <option :value="false">purge</option>
        <option :value="true">mark stale</option>
      </select>
      <label><input v-model="warm" type="checkbox" /> and warm up</label>
      <Button
        type="submit"
        size="small"
        outlined
        :label="stale ? 'Mark stale' : 'Purge'"
        :loading="acts.purge.isPending.value"
      />
    </div>
    <Trouble :error="acts.purge.error.value" />
    <p v-if="acts.purge.data.value" role="status" class="small">
      {{ counted(acts.purge.data.value.purged, "cached copy", "cached copies") }}
      went<template v-if="acts.purge.data.value.toWarm"
        >; {{ acts.purge.data.value.toWarm === 1 ? "1 is" : `${acts.purge.data.value.toWarm} are` }} fetched
        again</template
      >.
    </p>
  </form>
</template>
