<script setup lang="ts">
/** The pages that the survey found: which class each has, and which are to be in the test plan. */
import { count, counted } from "../shared/wording";
import { refDebounced } from "@vueuse/core";
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref, watch } from "vue";
import { classes } from "../shared/classes";
import { numberInAddress, textInAddress } from "../shared/address";
import { useAsking } from "../shared/asking";
import { choiceOf } from "../shared/choice";
import AskState from "../shared/AskState.vue";
import PagedTable from "../shared/PagedTable.vue";
import type { PagedColumn } from "../shared/paged";
import Trouble from "../shared/Trouble.vue";
import { pageSize, useFoundPages, useOnboardingActs, type Onboarding, type Wanted } from "./queries";

const props = defineProps<{ onboarding: Onboarding }>();
const acts = useOnboardingActs();
const ask = useAsking();
type Class = NonNullable<Wanted["class"]>;

/** "test-plan" or a class. */
const only = textInAddress<string>("pages", "test-plan");
const q = textInAddress("q");
const typed = refDebounced(q, 250);
const first = numberInAddress("from");
const wanted = computed<Wanted>(() => ({
  q: typed.value || undefined,
  watch: only.value === "test-plan" || undefined,
  class: only.value === "test-plan" || only.value === "all" ? undefined : (only.value as Class),
}));
watch(wanted, (now, before) => JSON.stringify(now) !== JSON.stringify(before) && (first.value = 0));
const { data, isPending, isFetching, error, refetch } = useFoundPages(() => props.onboarding.id, wanted, first);
// How far the survey is tells that there are more pages than were read.
watch(
  () => props.onboarding.survey,
  () => void refetch(),
);

const picked = ref<string[]>([]);
// What is not on the screen is not changed with what is.
watch([wanted, first], () => (picked.value = []));
const filters = computed(() => [
  { name: "test-plan", label: `in the test plan (${props.onboarding.pages.watched.length})` },
  { name: "all", label: `all (${count(props.onboarding.pages.total)})` },
  ...props.onboarding.pages.classes.map((c) => ({ name: c.class, label: `${c.class} (${count(c.pages)})` })),
]);
/** The ticked pages, or all that are listed, on this page and others. */
function say(what: { class?: Class; watch?: boolean }) {
  const which: { paths: string[] } | { all: Wanted } = picked.value.length
    ? { paths: picked.value }
    : { all: wanted.value };
  acts.pages.mutate({ id: props.onboarding.id, ...which, ...what }, { onSuccess: () => (picked.value = []) });
}
/** A list that does something with what is chosen has nothing chosen afterwards, done or not. */
function reclassAs(e: Event) {
  const c = choiceOf<Class>(e);
  (e.target as HTMLSelectElement).value = "";
  reclass(c);
}
/** Of more than what is on the screen it is asked first. */
function reclass(c: Class) {
  if (picked.value.length) return say({ class: c });
  ask({
    title: `Set the class of ${counted(data.value!.total, "page")} to ${c}?`,
    says: "Of all that are listed, on this page and others, the class and the reason that was found for it are replaced.",
    verb: "Set it",
    go: () => say({ class: c }),
  });
}
const columns: PagedColumn[] = [
  { name: "tick", title: "Tick", silent: true },
  { name: "path", title: "Page" },
  { name: "class", title: "Class" },
  { name: "why", title: "Why" },
  { name: "watch", title: "Tested" },
];
</script>

<template>
  <p class="row filters">
    <Button
      v-for="f in filters"
      :key="f.name"
      size="small"
      :text="only !== f.name"
      :aria-pressed="only === f.name"
      :label="f.label"
      @click="only = f.name"
    />
    <InputText v-model="q" size="small" placeholder="Address or title" aria-label="Part of an address or title" />
  </p>
  <AskState :pending="isPending" :error="error" what="The pages" @again="refetch()">
    <p v-if="data?.total" class="row">
      <span>{{ picked.length ? `${picked.length} ticked` : `all ${count(data.total)} listed` }}:</span>
      <select
        :value="''"
        :aria-label="picked.length ? 'Class of the ticked pages' : 'Class of all listed pages'"
        :disabled="acts.pages.isPending.value || isFetching || typed !== q"
        @change="reclassAs"
      >
        <option value="" disabled>set their class</option>
        <option v-for="c in classes" :key="c">{{ c }}</option>
      </select>
      <template v-if="picked.length">
        <Button
          size="small"
          text
          label="test them"
          :disabled="acts.pages.isPending.value"
          @click="say({ watch: true })"
        />
        <Button
          size="small"
          text
          label="do not test"
          :disabled="acts.pages.isPending.value"
          @click="say({ watch: false })"
        />
      </template>
    </p>
    <Trouble :error="acts.pages.error.value" />
    <PagedTable
      v-if="data"
      v-model:first="first"
      :rows="data.rows"
      :total="data.total"
      :size="pageSize"
      :columns="columns"
      row-key="path"
      :busy="isFetching"
      none="No page is like that."
    >
      <template #tick="{ row }"
        ><input v-model="picked" type="checkbox" :value="row.path" :aria-label="`Tick ${row.path}`"
      /></template>
      <template #path="{ row }"
        >{{ row.path }} <span class="small faded">{{ row.title }}</span></template
      >
      <template #class="{ row }">{{ row.class }}</template>
      <template #why="{ row }"
        ><span class="small">{{ row.why }}</span></template
      >
      <template #watch="{ row }">{{ row.watch ? "yes" : "" }}</template>
    </PagedTable>
  </AskState>
</template>

<style scoped>
.filters {
  flex-wrap: wrap;
  gap: 2px;
  margin: var(--s2) 0;
}
</style>
