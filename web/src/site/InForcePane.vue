<script setup lang="ts">
/** Settings at a moment that somebody names, by whom, and what is different now. */
import { computed, ref } from "vue";
import { useInForceAt } from "./history";
import Fingerprint from "../shared/Fingerprint.vue";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";
import CsvFoot from "../shared/CsvFoot.vue";

const props = defineProps<{ environments: { id: number; name: string }[] }>();
const env = ref(props.environments.find((e) => e.name === "production")?.id ?? props.environments.at(-1)!.id);
const time = ref("");
const moment = computed(() => (time.value ? new Date(time.value).toISOString() : ""));
const { data, error } = useInForceAt(env, moment);
const words: Record<string, string> = {
  promote: "promoted",
  try: "tried",
  "roll back": "rolled back",
  restore: "restored",
  control: "earlier settings for a moment, to compare",
  search: "tried in a culprit search",
  outside: "changed outside Tide Marker",
  first: "first read",
};
</script>

<template>
  <details class="moment">
    <summary>Settings at a moment</summary>
    <div class="stack inside">
      <div class="row">
        <label class="small" for="moment-env">On</label>
        <select id="moment-env" v-model.number="env">
          <option v-for="e in environments" :key="e.id" :value="e.id">{{ e.name }}</option>
        </select>
        <label class="small" for="moment-time">at</label>
        <input id="moment-time" v-model="time" type="datetime-local" />
      </div>
      <Trouble :error="error" />
      <template v-if="data">
        <p v-if="!data.known">Nothing is recorded for that time.</p>
        <template v-else>
          <p>
            <Fingerprint :value="data.fingerprint" /> since <When :at="data.since" />: {{ words[data.kind] ?? data.kind
            }}<template v-if="data.kind !== 'first' && data.kind !== 'outside'"> by {{ data.who }}</template
            ><template v-if="data.change">
              with <RouterLink :to="`/changes/${data.change}`">{{ data.changeTitle }}</RouterLink></template
            ><template v-if="data.run">
              in <RouterLink :to="`/runs/${data.run}`">run {{ data.run }}</RouterLink></template
            >.
            <strong v-if="data.unsure"
              >Settings were being changed at that moment: it had these, or the next ones.</strong
            >
          </p>
          <p v-if="!data.differences.length" class="small faded">It has the same settings now.</p>
          <table v-else v-listed class="tide">
            <caption class="small faded">
              Different now
            </caption>
            <thead>
              <tr>
                <th>Setting</th>
                <th>Then</th>
                <th>Now</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="d in data.differences" :key="d.key">
                <td>{{ d.title }}</td>
                <td>{{ d.fromText }}</td>
                <td>{{ d.toText }}</td>
              </tr>
            </tbody>
            <CsvFoot />
          </table>
        </template>
      </template>
    </div>
  </details>
</template>

<style scoped>
.moment {
  margin-bottom: var(--s3);
}
summary {
  cursor: pointer;
  color: var(--deep);
}
.inside {
  padding: var(--s2) 0;
}
caption {
  text-align: left;
}
</style>
