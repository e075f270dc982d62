<script setup lang="ts">
/** One picture of a page, with what differs, what may differ and what shifted marked on it. */
import { computed } from "vue";
import type { Schemas } from "../api/client";

type Box = Schemas["Box"];
/** A place, and what happened to it in a word. */
type Place = Box & { says?: string };
const props = defineProps<{
  /** Where the picture is; without one there is none. */
  src?: string;
  alt: string;
  scale: number;
  /** In pixels of the picture. */
  width: number;
  height: number;
  places: Place[];
  quiet: Schemas["Region"][];
  moved?: Schemas["Path"][];
}>();
const tagged = 8; // so many places say what happened to them; more would cover each other
const size = computed(() => ({ width: `${props.width * props.scale}px`, height: `${props.height * props.scale}px` }));
const box = (r: Box) => ({
  left: `${r.x * props.scale - 3}px`,
  top: `${r.y * props.scale - 3}px`,
  width: `${r.width * props.scale + 6}px`,
  height: `${r.height * props.scale + 6}px`,
});
</script>

<template>
  <div class="frame" :style="size">
    <img v-if="src" :src="src" :alt="alt" :style="{ width: size.width }" />
    <p v-else class="faded">no picture</p>
    <span v-for="(r, n) in quiet" :key="`q${n}`" class="quiet" :style="box(r)" />
    <span v-for="(r, n) in places" :key="n" class="region" :style="box(r)"
      ><span v-if="r.says && n < tagged" class="happened">{{ r.says }}</span></span
    >
    <template v-for="(m, n) in moved ?? []" :key="`m${n}`">
      <span class="from" :style="box(m.from)" /><span class="moved" :style="box(m.to)"
        ><span class="happened">shifted</span></span
      >
    </template>
  </div>
</template>

<style scoped>
.frame {
  position: relative;
  overflow: hidden;
  background: #fff;
}
img {
  display: block;
}
.region {
  position: absolute;
  border: 2px solid #b01e5a;
  outline: 1px solid #fff;
}
.happened {
  position: absolute;
  left: -2px;
  bottom: 100%;
  padding: 0 4px;
  font-size: 0.75rem;
  line-height: 1.3;
  background: #b01e5a;
  color: #fff;
}
.from,
.moved {
  position: absolute;
  border: 2px dotted #1d4a60;
}
.moved {
  border-style: solid;
  outline: 1px solid #fff;
}
.moved .happened {
  background: #1d4a60;
}
.quiet {
  position: absolute;
  border: 1px dashed #55585c;
  background: repeating-linear-gradient(45deg, #55585c33 0 2px, transparent 2px 8px);
}
</style>
