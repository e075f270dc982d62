<script setup lang="ts">
/** What may be done with a run's change now, by the same guards as on the change itself. */
import ChangeActs from "../change/ChangeActs.vue";
import { useChange } from "../change/queries";

const props = defineProps<{ change: number }>();
const { data: change } = useChange(() => props.change);
</script>

<template>
  <div v-if="change" class="row next" aria-label="Next" role="group">
    <ChangeActs :change="change" brief />
    <RouterLink :to="`/changes/${change.id}`" class="small">Go to the change</RouterLink>
  </div>
</template>

<style scoped>
.next {
  margin-bottom: var(--s3);
  align-items: flex-start;
}
</style>
