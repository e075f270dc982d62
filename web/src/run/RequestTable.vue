<script setup lang="ts">
/** What the page did, this time and when the mark was taken: answer, errors, requests. */
import { computed } from "vue";
import type { Schemas } from "../api/client";
import { changed, pairs } from "./requests";
import { bytes, counted } from "../shared/wording";
import CsvFoot from "../shared/CsvFoot.vue";

const props = defineProps<{ before?: Schemas["PageProof"]; now: Schemas["PageProof"] }>();
const rows = computed(() => pairs(props.before?.requests ?? [], props.now.requests ?? []));
const say = (r?: Schemas["Request"]) =>
  !r ? "not asked for" : r.blocked ? "stopped: not the site's host" : r.failed || `${r.status}, ${bytes(r.bytes ?? 0)}`;
const count = (list: unknown[] | undefined, one: string) => counted(list?.length ?? 0, one);
</script>

<template>
  <details>
    <summary>
      Answer {{ now.status }}, {{ now.served }} · layout shift {{ now.shift.toFixed(3)
      }}<template v-if="before"> (was {{ before.shift.toFixed(3) }})</template> ·
      {{ count(now.errors, "script error") }} · {{ count(now.requests, "request") }}
    </summary>
    <p v-for="(e, i) in now.errors ?? []" :key="i" class="mono">
      {{ e.message }} <span class="faded">{{ e.source }}:{{ e.line }}</span>
    </p>
    <p v-for="(c, i) in now.console ?? []" :key="`c${i}`" class="mono faded">{{ c }}</p>
    <table v-listed class="tide small">
      <thead>
        <tr>
          <th>Request</th>
          <th>When the mark was taken</th>
          <th>This run</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="r in rows" :key="r.name" :class="{ changed: changed(r) }">
          <td class="mono">{{ r.name }}</td>
          <td>{{ say(r.was) }}</td>
          <td>{{ say(r.is) }}</td>
        </tr>
      </tbody>
      <CsvFoot />
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
