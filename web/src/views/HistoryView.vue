<script setup lang="ts">
import { useHistory, useSite } from "../api/queries";
import AskState from "../parts/AskState.vue";
import SiteHead from "../parts/SiteHead.vue";
import When from "../parts/When.vue";

const props = defineProps<{ id: number }>();
const site = useSite(() => props.id);
const { data, isPending, error, refetch } = useHistory(() => props.id);
</script>

<template>
  <SiteHead :site="id" :name="site.data.value?.name ?? ''" here="History" />
  <h1>What happened</h1>
  <AskState :pending="isPending" :error="error" what="The history" @again="refetch()">
    <p v-if="!data?.length" class="sheet">Nothing has happened yet.</p>
    <table v-else class="tide">
      <thead>
        <tr>
          <th>When</th>
          <th>Who</th>
          <th>What</th>
          <th>Opens</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="e in data" :key="e.id">
          <td class="nowrap"><When :at="e.at" /></td>
          <td>{{ e.who }}</td>
          <td :class="{ loud: e.kind === 'despite' }">{{ e.text }}</td>
          <td class="nowrap">
            <RouterLink v-if="e.run" :to="`/runs/${e.run}`">run {{ e.run }}</RouterLink>
            <template v-if="e.run && e.change">, </template>
            <RouterLink v-if="e.change" :to="`/changes/${e.change}`">change {{ e.change }}</RouterLink>
          </td>
        </tr>
      </tbody>
    </table>
  </AskState>
</template>

<style scoped>
.loud {
  border-left: 4px solid var(--broken);
  background: var(--broken-wash);
  font-weight: 600;
}
.nowrap {
  white-space: nowrap;
}
</style>
