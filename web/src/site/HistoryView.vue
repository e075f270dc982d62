<script setup lang="ts">
import { count } from "../shared/wording";
import Button from "primevue/button";
import { computed } from "vue";
import { useRoute, useRouter } from "vue-router";
import { useChain, useHistory, useHistoryKnown, type Filter } from "./history";
import { useSite } from "./queries";
import AskState from "../shared/AskState.vue";
import Fingerprint from "../shared/Fingerprint.vue";
import InForcePane from "./InForcePane.vue";
import SiteHead from "./SiteHead.vue";
import When from "../shared/When.vue";
import { choiceOf } from "../shared/choice";

/** Who did what when, and what followed; the filter is part of the address. */
const props = defineProps<{ id: number }>();
const route = useRoute();
const router = useRouter();
const site = useSite(() => props.id);
const { data: known } = useHistoryKnown(() => props.id);
const { data: chain } = useChain(() => props.id);

const asked = (name: string) => String(route.query[name] ?? "");
const set = (name: string, value: string) =>
  void router.replace({ query: { ...route.query, [name]: value || undefined } });
/** A day of the reader's zone, as the moment at which it begins, or the next does. */
const moment = (day: string, after = 0) => {
  const [y, m, d] = day.split("-").map(Number);
  return day ? new Date(y!, m! - 1, d! + after).toISOString() : undefined;
};
const filter = computed<Filter>(() => ({
  who: asked("who") || undefined,
  kind: asked("kind") || undefined,
  environment: Number(asked("environment")) || undefined,
  from: moment(asked("from")),
  to: moment(asked("to"), 1),
}));
const { data, isPending, error, refetch, hasNextPage, fetchNextPage, isFetchingNextPage } = useHistory(
  () => props.id,
  filter,
);
const lines = computed(() => data.value?.pages.flat() ?? []);
const filtered = computed(() => Object.values(filter.value).some(Boolean));
const names = computed(() => new Map(known.value?.environments.map((e) => [e.id, e.name]) ?? []));
const exported = (format: string) => {
  const q = new URLSearchParams({ format });
  for (const [k, v] of Object.entries(filter.value)) if (v) q.set(k, String(v));
  return `/api/v1/sites/${props.id}/history/export?${q}`;
};
const kinds: Record<string, string> = { despite: "despite the calendar", outside: "changed outside" };
</script>

<template>
  <SiteHead :site="id" :name="site.data.value?.name ?? ''" here="History" />
  <div class="spread">
    <h1>What happened</h1>
    <p v-if="chain" class="small chain" :class="{ broken: chain.broken }">
      <template v-if="chain.broken">The history was altered: {{ chain.broken }}</template>
      <template v-else>
        {{ count(chain.entries) }} entries, each with the hash of the one before; checked now: none was altered, up to
        <Fingerprint :value="chain.last" />
      </template>
    </p>
  </div>
  <form class="row filter" @submit.prevent>
    <label
      >Who
      <select :value="asked('who')" @change="set('who', choiceOf($event))">
        <option value="">everybody</option>
        <option v-for="w in known?.who" :key="w" :value="w">{{ w }}</option>
      </select></label
    >
    <label
      >What
      <select :value="asked('kind')" @change="set('kind', choiceOf($event))">
        <option value="">all kinds</option>
        <option v-for="k in known?.kinds" :key="k" :value="k">{{ kinds[k] ?? k }}</option>
      </select></label
    >
    <label
      >Where
      <select :value="asked('environment')" @change="set('environment', choiceOf($event))">
        <option value="">anywhere</option>
        <option v-for="e in known?.environments" :key="e.id" :value="String(e.id)">{{ e.name }}</option>
      </select></label
    >
    <label
      >From
      <input type="date" :value="asked('from')" @change="set('from', ($event.target as HTMLInputElement).value)" />
    </label>
    <label
      >to <input type="date" :value="asked('to')" @change="set('to', ($event.target as HTMLInputElement).value)" />
    </label>
    <Button v-if="filtered" size="small" text label="Show all" @click="router.replace({ query: {} })" />
    <span class="grow" />
    <a class="small" :href="exported('csv')" download>CSV</a>
    <a class="small" :href="exported('jsonl')" download>JSON lines</a>
  </form>
  <InForcePane v-if="known?.environments.length" :environments="known.environments" />
  <AskState :pending="isPending" :error="error" what="The history" @again="refetch()">
    <p v-if="!lines.length" class="sheet">
      {{ filtered ? "Nothing of that kind is recorded." : "Nothing has happened yet." }}
    </p>
    <table v-else v-listed class="tide">
      <thead>
        <tr>
          <th>When</th>
          <th>Who</th>
          <th>Where</th>
          <th>What</th>
          <th>Opens</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="e in lines" :key="e.id">
          <td class="nowrap"><When :at="e.at" /></td>
          <td>{{ e.who }}</td>
          <td>{{ e.environment ? names.get(e.environment) : "" }}</td>
          <td :class="{ loud: e.kind === 'despite' }">{{ e.text }}</td>
          <td class="nowrap">
            <RouterLink v-if="e.run" :to="`/runs/${e.run}`">run {{ e.run }}</RouterLink>
            <template v-if="e.run && e.change">, </template>
            <RouterLink v-if="e.change" :to="`/changes/${e.change}`">change {{ e.change }}</RouterLink>
          </td>
        </tr>
      </tbody>
    </table>
    <Button
      v-if="hasNextPage"
      class="older"
      size="small"
      outlined
      label="Show older"
      :loading="isFetchingNextPage"
      @click="fetchNextPage()"
    />
  </AskState>
</template>

<style scoped>
.filter {
  margin: var(--s3) 0;
}
.filter label {
  display: flex;
  gap: 6px;
  align-items: center;
  font-size: 0.88rem;
}
.grow {
  flex: 1;
}
.older {
  margin-top: var(--s3);
}
.chain {
  color: var(--faded);
}
.chain.broken {
  color: var(--broken);
  font-weight: 600;
}
.loud {
  border-left: 4px solid var(--broken);
  background: var(--broken-wash);
  font-weight: 600;
}
</style>
