<script setup lang="ts">
/** What may be done with a run's change now, by the same guards as on the change itself. */
import ChangeActs from "../change/ChangeActs.vue";
import { useChange } from "../change/queries";

const props = defineProps<{ change: number }>();
const { data: change } = useChange(() => props.change);
</script>

<template>
  <ChangeActs v-if="change" :change="change" brief role="group" aria-label="Next" />
</template>
