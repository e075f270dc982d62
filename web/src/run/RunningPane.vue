<script setup lang="ts">
/** A run under way: what is happening now, how far it is, what was found so far. */
import { useNow } from "@vueuse/core";
import Button from "primevue/button";
import ProgressBar from "primevue/progressbar";
import { computed } from "vue";
import { useRunActs, type Run } from "./queries";
import { useSession } from "../api/session";
import { lastsFor } from "./lasting";
import { phasesOf } from "./phases";

const props = defineProps<{ run: Run }>();
const acts = useRunActs();
const { may } = useSession();
const phases = computed(() => phasesOf(props.run));
const p = computed(() => props.run.progress);
const now = useNow({ interval: 1_000 });
const lasted = computed(() =>
  props.run.startedAt
    ? lastsFor((now.value.getTime() - Date.parse(props.run.startedAt)) / 1000, props.run.typical)
    : undefined,
);
const share = computed(() => (p.value.looks?.planned ? p.value.looks.done / p.value.looks.planned : 0));
</script>

<template>
  <section class="sheet stack">
    <ol class="phases">
      <li v-for="n in phases" :key="n.name" :class="n.when" :aria-current="n.when === 'here' ? 'step' : undefined">
        {{ n.name }}
      </li>
    </ol>
    <p class="now" role="status">{{ run.state === "queued" ? "Waiting for a worker" : p.now || "Starting" }}</p>
    <p v-if="lasted" class="small">{{ lasted }}</p>
    <ProgressBar
      v-if="run.kind !== 'culprit search'"
      :value="Math.round(100 * share)"
      :show-value="false"
      class="gauge"
      aria-label="Looks made"
      :aria-valuetext="`${p.looks?.done ?? 0} of ${p.looks?.planned ?? 0}`"
    />
    <p v-if="run.kind !== 'culprit search'">
      {{ p.looks?.done ?? 0 }} of {{ run.kind === "measure" ? "at most " : "" }}{{ p.looks?.planned ?? 0 }}
      {{ run.kind === "measure" ? "loads" : "looks"
      }}<template v-if="p.looks?.failed"
        >, {{ p.looks.failed }} {{ run.kind === "measure" ? "do not count" : "failed" }}</template
      ><template v-if="run.kind !== 'measure'">
        · {{ p.warmed ?? 0 }} of {{ p.toWarm ?? 0 }} warmed · found so far: {{ p.broken ?? 0 }} broken,
        {{ p.unsure ?? 0 }} unsure</template
      >
    </p>
    <div v-if="may('work')" class="row">
      <Button
        size="small"
        outlined
        :label="run.stopAsked ? 'Stopping' : 'Stop'"
        :disabled="run.stopAsked"
        @click="acts.stop.mutate(run.id)"
      />
      <span class="small faded">You can leave this page; the run continues.</span>
    </div>
  </section>
</template>

<style scoped>
.phases {
  display: flex;
  flex-wrap: wrap;
  list-style: none;
  margin: 0;
  padding: 0;
  gap: 0 var(--s4);
  font-family: var(--chart);
  font-style: italic;
  color: var(--faded);
}
.phases .past {
  color: var(--ink);
}
.phases .here {
  color: var(--ink);
  font-weight: 700;
  border-bottom: 3px solid var(--broken);
}
.now {
  font-size: 1.15rem;
}
/* Ticks as on a ruler: twenty along the bar. */
.gauge {
  border-bottom: 2px solid var(--ink);
  background: repeating-linear-gradient(to right, var(--rule-strong) 0 1px, transparent 1px 5%), var(--shoal);
}
</style>
