<script setup lang="ts">
/**
 * Two pictures of a page, and a third with the earlier settings where there was a control: side by
 * side, laid over each other with a movable edge, or what differs. Regions that changed are outlined; parts that may differ are hatched.
 */
import Button from "primevue/button";
import SelectButton from "primevue/selectbutton";
import { computed, nextTick, onMounted, onUnmounted, ref, useTemplateRef, watch } from "vue";
import type { Schemas } from "../api/client";
import PictureFrame from "./PictureFrame.vue";
import { useShortcuts } from "../shared/shortcuts";
import { oneInAddress } from "../shared/address";
import { counted } from "../shared/wording";

const props = defineProps<{
  before?: Schemas["Picture"];
  now?: Schemas["Picture"];
  control?: Schemas["Picture"];
  /** This run looked with changed settings. */
  changed?: boolean;
  difference: string;
  regions: Schemas["Region"][];
  quiet: Schemas["Region"][];
  /** The finding is not of how the page looks; so many others are. */
  others?: number;
  /** From where to where parts moved while this run's page loaded. */
  moved?: Schemas["Path"][];
}>();
type Way = "beside" | "over" | "difference";
/** Where only one of the two has a picture, such as of a page that is new, there is nothing to lay over it. */
const ways = computed(() =>
  (
    [
      { value: "beside", label: "Side by side" },
      { value: "over", label: "Laid over" },
      { value: "difference", label: "Difference" },
    ] satisfies { value: Way; label: string }[]
  ).filter((w) => w.value === "beside" || (props.before && props.now)),
);
const way = oneInAddress<Way>("pictures", ["beside", "over", "difference"], "beside");
const swapped = ref(false);
const edge = ref(50);
const zoom = ref(0); // 0: fit the width
const url = (p?: Schemas["Picture"]) => (p ? `/api/v1/blobs/${p.sha256}` : "");
const against = ref<"mark" | "control">("mark"); // what this run's picture is laid over
const thisRun = computed(() => (props.changed ? "with the change" : "this run"));
const places = computed(() =>
  props.regions.map((r) => ({ x: r.x, y: r.y, width: r.width, height: r.height, says: said[r.happened ?? ""] })),
);
/** What happened to a block of rows; so many places are told, more would cover each other. */
const said: Record<string, string> = { came: "new", went: "gone", moved: "moved" };
/** Where to look for the same in the mark: what came in above has moved it. */
const wasAt = computed(() =>
  props.regions
    .filter((r) => r.happened !== "came")
    .map((r) => ({
      x: r.x,
      says: r.happened === "went" ? "gone in this run" : undefined,
      y: r.was ?? 0,
      width: r.width,
      height: r.happened === "went" || r.happened === "moved" ? (r.rows ?? r.height) : r.height,
    })),
);
const pair = computed(() => {
  const control = props.control
    ? [{ picture: props.control, name: "earlier settings, in this run", places: wasAt.value }]
    : [];
  const mark = [{ picture: props.before, name: "the mark", places: wasAt.value }];
  const now = { picture: props.now, name: thisRun.value, places: places.value };
  if (way.value === "beside") return swapped.value ? [...control, now, ...mark] : [...mark, now, ...control];
  const other = against.value === "control" && control.length ? control[0]! : mark[0]!;
  return swapped.value ? [now, other] : [other, now];
});
const columns = computed(() => (way.value === "beside" ? pair.value.length : 1));
const width = computed(() => props.now?.width ?? props.before?.width ?? 1280);
const height = computed(() => Math.max(props.now?.height ?? 0, props.before?.height ?? 0));

const pane = useTemplateRef<HTMLElement>("pane");
const paneWidth = ref(600);
const scale = computed(
  () =>
    zoom.value ||
    Math.min(1, (paneWidth.value - (columns.value > 1 ? 12 * columns.value : 6)) / columns.value / width.value),
);
const size = computed(() => ({ width: `${width.value * scale.value}px`, height: `${height.value * scale.value}px` }));

function show(first?: Schemas["Region"]) {
  if (pane.value && first) pane.value.scrollTop = Math.max(0, first.y * scale.value - 60);
}
watch([() => props.regions, way], () => nextTick(() => show(props.regions[0])), { immediate: true });

let watcher: ResizeObserver | undefined;
onMounted(() => {
  watcher = new ResizeObserver((e) => (paneWidth.value = e[0]!.contentRect.width));
  watcher.observe(pane.value!);
});
onUnmounted(() => {
  watcher?.disconnect();
});

useShortcuts((key) => {
  const shown = ways.value[Number(key) - 1];
  if (shown) return () => (way.value = shown.value);
  return {
    x: () => (swapped.value = !swapped.value),
    "+": () => (zoom.value = Math.min(3, scale.value * 1.25)),
    "-": () => (zoom.value = Math.max(0.1, scale.value / 1.25)),
    "0": () => (zoom.value = 0),
    o: whole,
  }[key];
});
/** The pictures over the whole window, and back. */
const wide = ref(false);
async function whole() {
  wide.value = !wide.value;
  await nextTick();
  pane.value?.focus();
  show(props.regions[0]);
}
</script>

<template>
  <div class="pair" :class="{ wide }" @keydown.esc="wide && whole()">
    <div class="row tools">
      <SelectButton
        v-model="way"
        :options="ways"
        option-label="label"
        option-value="value"
        size="small"
        :allow-empty="false"
        aria-label="How the pictures are shown"
      />
      <Button size="small" text label="Swap" title="x" @click="swapped = !swapped" />
      <Button size="small" text label="−" aria-label="Zoom out" @click="zoom = Math.max(0.1, scale / 1.25)" />
      <span class="small">{{ Math.round(scale * 100) }} %</span>
      <Button size="small" text label="+" aria-label="Zoom in" @click="zoom = Math.min(3, scale * 1.25)" />
      <Button size="small" text label="Fit" @click="zoom = 0" />
      <Button size="small" text :label="wide ? 'Close' : 'Whole window'" title="o" @click="whole()" />
      <label v-if="way === 'over' && control" class="row small"
        >Laid over
        <select v-model="against">
          <option value="mark">the mark</option>
          <option value="control">the earlier settings</option>
        </select></label
      >
      <label v-if="way === 'over'" class="row small"
        >Edge
        <input
          v-model.number="edge"
          type="range"
          min="0"
          max="100"
          aria-label="Where the edge between the pictures lies"
      /></label>
    </div>
    <div ref="pane" class="pane" tabindex="0" aria-label="Pictures">
      <div v-if="way === 'beside'" class="beside">
        <figure v-for="(p, i) in pair" :key="i">
          <figcaption class="small">{{ p.name }}</figcaption>
          <PictureFrame
            :src="url(p.picture)"
            :alt="`The page, ${p.name}`"
            :scale="scale"
            :width="width"
            :height="height"
            :places="p.places"
            :quiet="quiet"
            :moved="p.picture && p.picture === now ? moved : undefined"
          />
        </figure>
      </div>
      <div v-else-if="way === 'over'" class="frame" :style="size">
        <img :src="url(pair[0]!.picture)" :alt="`The page, ${pair[0]!.name}`" :style="{ width: size.width }" />
        <img
          :src="url(pair[1]!.picture)"
          :alt="`The page, ${pair[1]!.name}`"
          class="top"
          :style="{ width: size.width, clipPath: `inset(0 0 0 ${edge}%)` }"
        />
        <span class="edge" :style="{ left: `${edge}%` }" aria-hidden="true" />
        <span class="tag left">{{ pair[0]!.name }}</span><span class="tag right">{{ pair[1]!.name }}</span>
      </div>
      <PictureFrame
        v-else
        :src="difference"
        alt="What differs, marked on a faded page"
        :scale="scale"
        :width="width"
        :height="height"
        :places="regions"
        :quiet="[]"
      />
    </div>
    <p class="small faded">
      <template v-if="regions.length || others === undefined">{{
        counted(regions.length, "place differs", "places differ")
      }}</template>
      <template v-else-if="others"
        >This finding is not about how the page looks here; that is
        {{ others === 1 ? "another finding" : `${others} other findings` }} of this run</template
      >
      <template v-else
        >This finding is not about looks, and no finding of this run is about how the page looks here</template
      ><template v-if="quiet.length"
        >; {{ counted(quiet.length, "hatched part") }} may differ and {{ quiet.length === 1 ? "was" : "were" }} left
        out</template
      >.
    </p>
  </div>
</template>

<style scoped>
.tools {
  gap: var(--s1);
  margin-bottom: var(--s2);
}
.pane {
  overflow: auto;
  max-height: calc(100vh - 330px);
  min-height: 300px;
  border: 1px solid var(--rule-strong);
  background: var(--blind-wash);
  padding: 2px;
}
.pair.wide {
  position: fixed;
  inset: 0;
  z-index: 1000;
  background: var(--sheet);
  padding: var(--s2) var(--s3) var(--s3);
  display: flex;
  flex-direction: column;
}
.pair.wide .pane {
  flex: 1;
  max-height: none;
}
.beside {
  display: flex;
  gap: 8px;
  align-items: flex-start;
}
figure {
  margin: 0;
}
figcaption {
  position: sticky;
  top: 0;
  background: var(--sheet);
  padding: 0 6px;
  z-index: 1;
  border-bottom: 1px solid var(--rule);
}
.frame {
  position: relative;
  overflow: hidden;
  background: #fff;
}
img {
  display: block;
}
.top {
  position: absolute;
  inset: 0;
}
.edge {
  position: absolute;
  top: 0;
  bottom: 0;
  width: 2px;
  background: var(--broken);
}
.tag {
  position: absolute;
  top: 4px;
  background: var(--sheet);
  color: var(--ink);
  padding: 0 6px;
  font-size: 0.85rem;
}
.left {
  left: 4px;
}
.right {
  right: 4px;
}
</style>
