<script setup lang="ts">
/** The places of one cause. Of many only those in view are drawn. */
import { useVirtualList } from "@vueuse/core";
import { computed, watch } from "vue";
import { placeOf } from "./findings";
import type { Finding } from "./queries";

const props = defineProps<{ findings: Finding[] }>();
const chosen = defineModel<number | undefined>({ required: true });
const many = computed(() => props.findings.length > 60);
const height = 26;
const { list, containerProps, wrapperProps, scrollTo } = useVirtualList(
  computed(() => (many.value ? props.findings : [])),
  { itemHeight: height, overscan: 10 },
);
const shown = computed(() => (many.value ? list.value.map((l) => l.data) : props.findings));
/** What a key chooses is brought into view, where only a part is. */
watch(
  [chosen, containerProps.ref],
  () => {
    const at = props.findings.findIndex((f) => f.id === chosen.value);
    const box = containerProps.ref.value;
    if (!many.value || at < 0 || !box) return;
    const [from, to] = [box.scrollTop, box.scrollTop + box.clientHeight - height];
    if (at * height < from || at * height > to) scrollTo(Math.max(0, at - 3));
  },
  { flush: "post" },
);
</script>

<template>
  <div v-bind="many ? containerProps : {}" :class="{ many }">
    <ul class="plain-list places" v-bind="many ? wrapperProps : {}">
      <li v-for="f in shown" :key="f.id">
        <button
          type="button"
          :class="{ here: f.id === chosen }"
          :aria-current="f.id === chosen"
          :title="placeOf(f)"
          @click="chosen = f.id"
        >
          {{ placeOf(f) }}
        </button>
      </li>
    </ul>
  </div>
</template>

<style scoped>
.places {
  padding: 0 0 6px 30px;
}
.many {
  max-height: 16rem;
  border-bottom: 1px solid var(--rule);
}
button {
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  text-align: left;
  cursor: pointer;
  min-height: 24px;
  padding: 2px 6px;
  width: 100%;
}
.many button {
  height: 26px;
  overflow: hidden;
  white-space: nowrap;
  text-overflow: ellipsis;
}
.here {
  background: var(--shoal);
  font-weight: 600;
}
</style>
