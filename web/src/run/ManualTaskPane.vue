<script setup lang="ts">
/** A checklist for somebody who changes the settings in the site's own administration. */
import Button from "primevue/button";
import { ref } from "vue";
import { useRunActs, type Run } from "./queries";
import { useSession } from "../api/session";
import ExportField from "../site/ExportField.vue";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";
import { useAsking } from "../shared/asking";
import CsvFoot from "../shared/CsvFoot.vue";

const ask = useAsking();
defineProps<{ run: Run }>();
const acts = useRunActs();
const { may } = useSession();
const file = ref("");
const details = () =>
  (acts.completeTask.error.value as { details?: { location?: string; message?: string }[] } | null)?.details ?? [];
</script>

<template>
  <section v-if="run.manualTask" class="sheet stack">
    <h2>
      {{
        run.manualTask.state === "open"
          ? `To be done by hand on ${run.environment}`
          : `Done by hand on ${run.environment}`
      }}
    </h2>
    <p v-if="run.manualTask.state === 'open'" class="faded">
      In the site’s own administration, set what the list says and tick each item. Then confirm below; the run continues
      with the pages.
    </p>
    <p v-else class="small">
      {{ run.manualTask.doneBy }}, <When :at="run.manualTask.doneAt" />.
      {{
        run.manualTask.proven
          ? "The exported file has exactly what was meant, and nothing else changed."
          : "No exported file proves it."
      }}
    </p>
    <table v-listed class="tide">
      <thead>
        <tr>
          <th>Done</th>
          <th>Setting</th>
          <th>Is</th>
          <th>Set it to</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(it, n) in run.manualTask.items" :key="it.title + n">
          <td>
            <input
              type="checkbox"
              :checked="it.done"
              :disabled="run.manualTask.state !== 'open' || !may('work')"
              :aria-label="`Done: ${it.title}`"
              @change="acts.tick.mutate({ run: run.id, item: n, done: ($event.target as HTMLInputElement).checked })"
            />
          </td>
          <td>
            <b>{{ it.title }}</b> <span v-if="it.where" class="small faded">{{ it.where }}</span>
            <p v-if="it.done" class="small faded">{{ it.who }}, <When :at="it.at" short /></p>
          </td>
          <td class="value">{{ it.from }}</td>
          <td class="value">
            <b>{{ it.to }}</b>
          </td>
        </tr>
      </tbody>
      <CsvFoot />
    </table>
    <Trouble :error="acts.tick.error.value" />
    <form
      v-if="run.manualTask.state === 'open' && may('work')"
      class="stack"
      @submit.prevent="acts.completeTask.mutate({ run: run.id, file: file || undefined })"
    >
      <ExportField
        v-model="file"
        name="exported"
        label="The settings exported again prove it. If the site cannot export them, the ticks count."
      />
      <Trouble :error="acts.completeTask.error.value" />
      <ul v-if="details().length" class="small">
        <li v-for="d in details()" :key="d.location">
          <code>{{ d.location?.replace("body.file", "") }}</code> {{ d.message }}
        </li>
      </ul>
      <div class="row">
        <Button
          type="submit"
          label="It is done"
          :disabled="!file.trim() && run.manualTask.waiting > 0"
          :loading="acts.completeTask.isPending.value"
        />
        <Button
          label="Cancel the run"
          text
          @click="
            ask({
              title: `Cancel the run on ${run.environment}?`,
              says: 'The run ends. The ticks are lost, and what was changed on the site by hand is not reverted.',
              verb: 'Cancel the run',
              go: () => acts.stop.mutate(run.id),
            })
          "
        />
      </div>
    </form>
    <details v-if="run.manualTask.proven" open>
      <summary>What changed in the file, as JSON Patch (RFC 6902)</summary>
      <pre class="mono small">{{ run.manualTask.patch.map((o) => JSON.stringify(o)).join("\n") }}</pre>
    </details>
  </section>
</template>

<style scoped>
.value {
  white-space: pre-line;
  overflow-wrap: anywhere;
}
pre {
  overflow-x: auto;
  background: var(--paper);
  padding: var(--s2);
}
</style>
