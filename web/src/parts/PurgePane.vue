<script setup lang="ts">
/** Purges what is cached of a page, a class or all, or marks it stale, and warms it again. */
import Button from "primevue/button";
import { ref, watch } from "vue";
import { useExclusionActs, type Cell } from "../api/exclusions";
import Trouble from "./Trouble.vue";

const props = defineProps<{ site: number; environment: number; cell: Cell }>();
const acts = useExclusionActs(() => props.site);
const what = ref("");
const stale = ref(false);
const warm = ref(true);
watch(
  () => props.cell.class,
  () => (what.value = "class"),
  { immediate: true },
);
function go() {
  const page = what.value.startsWith("/") ? what.value : undefined;
  const cls = what.value === "class" ? props.cell.class : undefined;
  acts.purge.mutate({ environment: props.environment, page, class: cls, stale: stale.value, warm: warm.value });
}
</script>

<template>
  <form class="stack" aria-label="Purge cached pages" @submit.prevent="go">
    <div class="row">
      <label for="purge-what">What is cached of</label>
      <select id="purge-what" v-model="what">
        <option value="class">the class “{{ cell.class }}”</option>
        <option v-for="p in cell.pages" :key="p.path" :value="p.path">{{ p.path }}</option>
        <option value="all">all pages</option>
      </select>
      <select v-model="stale" aria-label="How it goes">
        <option :value="false">purge</option>
        <option :value="true">is marked stale</option>
      </select>
      <label><input v-model="warm" type="checkbox" /> and warmed</label>
      <Button type="submit" size="small" outlined label="Do it" :loading="acts.purge.isPending.value" />
    </div>
    <Trouble :error="acts.purge.error.value" />
    <p v-if="acts.purge.data.value" role="status" class="small">
      {{ acts.purge.data.value.purged === 1 ? "1 cached copy" : `${acts.purge.data.value.purged} cached copies` }}
      went<template v-if="acts.purge.data.value.toWarm"
        >; {{ acts.purge.data.value.toWarm === 1 ? "1 is" : `${acts.purge.data.value.toWarm} are` }} fetched
        again</template
      >.
    </p>
  </form>
</template>
