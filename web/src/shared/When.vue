<script setup lang="ts">
/** A moment, in the reader's zone, which is named. */
import { computed } from "vue";
import { inFull, moment, zoneOf } from "./wording";

const props = defineProps<{ at?: string | null; short?: boolean }>();
const date = computed(() => (props.at ? new Date(props.at) : undefined));
const said = computed(() => (date.value ? moment(date.value) + (props.short ? "" : ` ${zoneOf(date.value)}`) : ""));
</script>

<template>
  <time v-if="date" :datetime="at!" :title="inFull(date)">{{ said }}</time>
  <span v-else class="faded">never</span>
</template>
