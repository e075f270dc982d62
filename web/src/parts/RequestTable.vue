<script setup lang="ts">
/** What the page did, this time and when the mark was taken: answer, errors, requests. */
import { computed } from "vue";
import type { Schemas } from "../api/client";

const props = defineProps<{ before?: Schemas["PageProof"]; now: Schemas["PageProof"] }>();
const path = (u: string) => {
  try {
    const x = new URL(u);
    return x.pathname + x.search;
  } catch {
    return u;
  }
};
const rows = computed(() => {
  const was = new Map((props.before?.requests ?? []).map((r) => [path(r.url), r]));
  const is = new Map((props.now.requests ?? []).map((r) => [path(r.url), r]));
  return [...new Set([...was.keys(), ...is.keys()])].map((p) => ({ path: p, was: was.get(p), is: is.get(p) }));
});
const say = (r?: Schemas["Request"]) =>
  !r ? "not asked for" : r.blocked ? "stopped: not the site's host" : r.failed || `${r.status}, ${kb(r.bytes ?? 0)}`;
const kb = (n: number) => `${(n / 1000).toFixed(1)} kB`;
const changed = (r: { was?: Schemas["Request"]; is?: Schemas["Request"] }) =>
  !r.was !== !r.is || r.was?.status !== r.is?.status || !!r.is?.failed;
</script>

<template>
  <details>
    <summary>
      Answer {{ now.status }}, {{ now.served }} · layout shift {{ now.shift.toFixed(3)
      }}<template v-if="before"> (was {{ before.shift.toFixed(3) }})</template> · {{ (now.errors ?? []).length }} script
      errors · {{ (now.requests ?? []).length }} requests
    </summary>
    <p v-for="(e, i) in now.errors ?? []" :key="i" class="mono">
      {{ e.message }} <span class="faded">{{ e.source }}:{{ e.line }}</span>
    </p>
    <p v-for="(c, i) in now.console ?? []" :key="`c${i}`" class="mono faded">{{ c }}</p>
    <table class="tide small">
      <thead>
        <tr>
          <th>Request</th>
          <th>When the mark was taken</th>
          <th>This run</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in rows" :key="r.path" :class="{ changed: changed(r) }">
          <td class="mono">{{ r.path }}</td>
          <td>{{ say(r.was) }}</td>
          <td>{{ say(r.is) }}</td>
        </tr>
      </tbody>
    </table>
  </details>
</template>

<style scoped>
summary {
  cursor: pointer;
  padding: 4px 0;
}
.changed {
  background: var(--unsure-wash);
}
td {
  overflow-wrap: anywhere;
}
</style>
