<script setup lang="ts">
/** One search over everything, by keyboard: type, choose with the arrow keys, open with Enter. */
import { refDebounced } from "@vueuse/core";
import Dialog from "primevue/dialog";
import { computed, ref, watch } from "vue";
import { useRouter } from "vue-router";
import { around, grouped, shortest, useFound } from "./found";
import Trouble from "./Trouble.vue";

const open = defineModel<boolean>({ required: true });
const router = useRouter();
const text = ref("");
const asked = refDebounced(text, 150);
const { data, error, isFetching } = useFound(asked);
const ready = computed(() => asked.value.trim().length >= shortest);
const groups = computed(() => (ready.value ? grouped(data.value ?? []) : []));
const all = computed(() => groups.value.flatMap((g) => g.items.map((i) => i.found)));
const chosen = ref(0);
watch(asked, () => (chosen.value = 0));

function move(by: number) {
  if (!all.value.length) return;
  chosen.value = (chosen.value + by + all.value.length) % all.value.length;
  document.getElementById(`found-${chosen.value}`)?.scrollIntoView({ block: "nearest" });
}
async function go(i: number) {
  const f = all.value[i];
  if (!f) return;
  open.value = false;
  await router.push(f.at);
}
</script>

<template>
  <Dialog
    v-model:visible="open"
    modal
    header="Search"
    position="top"
    :style="{ width: 'min(42rem, 96vw)' }"
    :draggable="false"
  >
    <input
      v-model="text"
      type="search"
      class="box"
      role="combobox"
      autofocus
      autocomplete="off"
      aria-label="Search sites, changes, settings, exclusions, pages and findings"
      placeholder="A part of a name, title, path or pattern"
      aria-controls="found"
      :aria-expanded="all.length > 0"
      :aria-activedescendant="all.length ? `found-${chosen}` : undefined"
      @keydown.down.prevent="move(1)"
      @keydown.up.prevent="move(-1)"
      @keydown.enter.prevent="go(chosen)"
    />
    <Trouble :error="error" />
    <p class="small faded" role="status">
      <template v-if="!ready">Sites, changes, settings, exclusions, pages and findings of all sites.</template>
      <template v-else-if="isFetching && !data">Searching …</template>
      <template v-else-if="!all.length">Nothing has “{{ asked.trim() }}”.</template>
    </p>
    <div id="found" role="listbox" aria-label="Found" class="found">
      <div v-for="g in groups" :key="g.title" role="group" :aria-label="g.title">
        <p class="kind" aria-hidden="true">{{ g.title }}</p>
        <div
          v-for="i in g.items"
          :id="`found-${i.at}`"
          :key="i.at"
          role="option"
          class="item"
          :aria-selected="i.at === chosen"
          @mousemove="chosen = i.at"
          @click="go(i.at)"
        >
          <span
            ><template v-for="(part, n) in around(i.found.title, asked.trim())" :key="n"
              ><b v-if="n === 1">{{ part }}</b
              ><template v-else>{{ part }}</template></template
            ></span
          >
          <span class="small faded"
            >{{ i.found.detail
            }}<template v-if="i.found.kind !== 'site'"
              >{{ i.found.detail ? " · " : "" }}{{ i.found.siteName }}</template
            ></span
          >
        </div>
      </div>
    </div>
  </Dialog>
</template>

<style scoped>
.box {
  width: 100%;
  font: inherit;
  padding: var(--s2);
  color: var(--ink);
  background: var(--paper);
  border: 1px solid var(--rule-strong);
}
.found {
  max-height: 60vh;
  overflow: auto;
}
.kind {
  font-family: var(--chart);
  font-style: italic;
  color: var(--faded);
  border-bottom: 1px solid var(--rule);
  margin-top: var(--s2);
}
.item {
  display: flex;
  justify-content: space-between;
  gap: var(--s3);
  padding: 6px var(--s2);
  min-height: 32px;
  overflow-wrap: anywhere;
  cursor: pointer;
}
.item[aria-selected="true"] {
  background: var(--shoal);
  outline: 1px solid var(--deep);
}
</style>
