<script setup lang="ts">
/** What two runs measured, compared: marks, production before and after, two sites. */
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useComparison, useMeasuredRuns } from "./queries";
import AskState from "../shared/AskState.vue";
import BudgetTable from "./BudgetTable.vue";
import EffectTable from "./EffectTable.vue";
import { casesOf, type Comparison } from "./measure";
import { day } from "../shared/wording";
import { choiceOf } from "../shared/choice";

const route = useRoute();
const router = useRouter();
const { data: runs, isPending, error, refetch } = useMeasuredRuns();
const chosen = (side: "before" | "after") => computed(() => Number(route.query[side]) || 0);
const before = chosen("before");
const after = chosen("after");
const compared = useComparison(before, after);
const all = computed(() => (compared.data.value?.comparisons ?? []) as Comparison[]);
const named = (id: number, kind: string, site: string, env: string, at: string) =>
  `${site}, ${env}: ${kind} ${id}, ${day(at)}`;
const pick = (side: string, e: Event) => void router.replace({ query: { ...route.query, [side]: choiceOf(e) } });
</script>

<template>
  <AskState :pending="isPending" :error="error" what="What was measured" @again="refetch()">
    <h1>Two measurements</h1>
    <p v-if="!runs?.length" class="small">
      Nothing has been measured yet. Measure a change on staging, or take a mark.
    </p>
    <div v-else class="stack">
      <div class="row">
        <template v-for="side in ['before', 'after'] as const" :key="side">
          <label :for="`compare-${side}`" class="small">{{ side }}</label>
          <select :id="`compare-${side}`" :value="side === 'before' ? before : after" @change="pick(side, $event)">
            <option :value="0">choose a run</option>
            <option v-for="r in runs" :key="r.id" :value="r.id">
              {{ named(r.id, r.kind, r.siteName, r.environment, r.createdAt) }}
            </option>
          </select>
        </template>
      </div>
      <p class="small faded">
        These were not loaded in turn, so a machine or line that was slower at one of the two times shows as a
        difference. To see what a change does, measure it on the change's page: there, both sides are loaded in turn.
      </p>
      <AskState
        v-if="before && after"
        :pending="compared.isPending.value"
        :error="compared.error.value"
        what="The comparison"
        @again="compared.refetch()"
      >
        <p>{{ compared.data.value?.summary }}</p>
        <p v-if="!all.length" class="small">They share no page on the same device.</p>
        <EffectTable v-for="c in casesOf(all)" :key="c" :comparisons="all" :of="c" over />
        <BudgetTable :budgets="compared.data.value?.budgets ?? []" />
      </AskState>
    </div>
  </AskState>
</template>
