<script setup lang="ts">
/** What the requests of both sides come to, by kind or by host. */
import { computed } from "vue";
import type { Schemas } from "../api/client";
import { differenceOf, valueOf } from "../shared/wording";
import CsvFoot from "../shared/CsvFoot.vue";

type Sum = Schemas["Sum"];
const props = defineProps<{ what: string; before: Sum[]; after: Sum[] }>();
const rows = computed(() =>
  [...new Set([...props.before, ...props.after].map((s) => s.name))].map((name) => {
    const of = (list: Sum[]) => list.find((s) => s.name === name) ?? { name, requests: 0, transferred: 0, content: 0 };
    return { name, was: of(props.before), is: of(props.after) };
  }),
);
</script>

<template>
  <table v-listed class="tide">
    <thead>
      <tr>
        <th>{{ what }}</th>
        <th>Requests</th>
        <th>Transferred</th>
        <th>Decoded</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="r in rows" :key="r.name">
        <td>{{ r.name }}</td>
        <td>{{ r.was.requests }} → {{ r.is.requests }}</td>
        <td>
          {{ valueOf("bytes", r.was.transferred) }} → {{ valueOf("bytes", r.is.transferred) }}
          <span v-if="r.was.transferred !== r.is.transferred" class="small faded"
            >({{ differenceOf("bytes", r.is.transferred - r.was.transferred) }})</span
          >
        </td>
        <td>{{ valueOf("bytes", r.was.content) }} → {{ valueOf("bytes", r.is.content) }}</td>
      </tr>
    </tbody>
    <CsvFoot />
  </table>
</template>
