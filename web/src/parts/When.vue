<script setup lang="ts">
/** A moment, in the reader's zone, which is named. */
import { computed } from "vue";

const props = defineProps<{ at?: string | null; short?: boolean }>();
const day = new Intl.DateTimeFormat("en-GB", { day: "numeric", month: "short", hour: "2-digit", minute: "2-digit" });
const full = new Intl.DateTimeFormat("en-GB", { dateStyle: "full", timeStyle: "long" });
const zone = new Intl.DateTimeFormat("en-GB", { timeZoneName: "short" });
const date = computed(() => (props.at ? new Date(props.at) : undefined));
const said = computed(() => day.format(date.value) + (props.short ? "" : ` ${zoneName.value}`));
const zoneName = computed(() => zone.formatToParts(date.value).find((p) => p.type === "timeZoneName")?.value ?? "");
</script>

<template>
  <time v-if="date" :datetime="at!" :title="full.format(date)">{{ said }}</time>
  <span v-else class="faded">never</span>
</template>
