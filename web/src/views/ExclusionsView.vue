<script setup lang="ts">
import { useExclusions, useSite } from "../api/queries";
import AskState from "../parts/AskState.vue";
import SiteHead from "../parts/SiteHead.vue";
import When from "../parts/When.vue";

const props = defineProps<{ id: number }>();
const site = useSite(() => props.id);
const { data, isPending, error, refetch } = useExclusions(() => props.id);
</script>

<template>
  <SiteHead :site="id" :name="site.data.value?.name ?? ''" here="Exclusions" />
  <h1>What is left alone, and why</h1>
  <AskState :pending="isPending" :error="error" what="The exclusions" @again="refetch()">
    <section v-if="!data?.length" class="sheet stack">
      <h2>Nothing has been left alone from here yet</h2>
      <p>When a check finds that a script cannot stand a setting, leave it alone from the finding; the reason stays.</p>
    </section>
    <table v-else class="tide">
      <thead>
        <tr>
          <th>Pattern</th>
          <th>Left alone by</th>
          <th>Why</th>
          <th>Who</th>
          <th>When</th>
          <th>Opens</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="e in data" :key="e.id">
          <td>
            <code>{{ e.pattern }}</code>
          </td>
          <td>
            {{ e.role }}<br /><code class="faded">{{ e.key }}</code>
          </td>
          <td>{{ e.reason }}</td>
          <td>{{ e.who }}</td>
          <td><When :at="e.at" /></td>
          <td>
            <RouterLink :to="`/changes/${e.change}`">change {{ e.change }}</RouterLink>
          </td>
        </tr>
      </tbody>
    </table>
  </AskState>
</template>
