<script setup lang="ts">
/** All changes, runs, marks or revisions of a site: filtered, sorted and paged by the server. */
import { computed } from "vue";
import { useSite } from "../site/queries";
import SiteHead from "../site/SiteHead.vue";
import ChangeRows from "./ChangeRows.vue";
import MarkRows from "./MarkRows.vue";
import RevisionRows from "./RevisionRows.vue";
import RunRows from "./RunRows.vue";

export type ListName = "changes" | "runs" | "marks" | "revisions";
const props = defineProps<{ id: number; list: ListName }>();
const { data: site } = useSite(() => props.id);
const lists = { changes: ChangeRows, runs: RunRows, marks: MarkRows, revisions: RevisionRows };
const titles: Record<ListName, string> = { changes: "Changes", runs: "Runs", marks: "Marks", revisions: "Revisions" };
const environments = computed(() => site.value?.environments.map((e) => ({ id: e.id, name: e.name })) ?? []);
</script>

<template>
  <SiteHead :site="id" :name="site?.name ?? ''" :here="titles[list]" />
  <div class="spread">
    <h1>{{ titles[list] }}</h1>
    <nav class="row small" aria-label="Records">
      <RouterLink v-for="(title, name) in titles" :key="name" :to="`/sites/${id}/${name}`">{{ title }}</RouterLink>
    </nav>
  </div>
  <component :is="lists[list]" :key="list" :site="id" :environments="environments" />
</template>

<style scoped>
.router-link-exact-active {
  color: var(--ink);
  font-weight: 600;
  text-decoration: none;
}
</style>
