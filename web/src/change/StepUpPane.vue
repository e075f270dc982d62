<script setup lang="ts">
/** A step-up through the bundles: what each step tried, what came of it, and what it led to. */
import Button from "primevue/button";
import { useChangeActs, type Change } from "./queries";
import { useSession } from "../api/session";
import type { Schemas } from "../api/client";
import { doing, staysWith, titleOf } from "./stepup";
import StateGlyph from "../shared/StateGlyph.vue";
import Trouble from "../shared/Trouble.vue";
import CsvFoot from "../shared/CsvFoot.vue";
import { counted } from "../shared/wording";

defineProps<{ change: Change; stepUp: Schemas["StepUpView"] }>();
const acts = useChangeActs();
const { may } = useSession();
const kinds: Record<string, string> = { try: "tried", search: "searched", skip: "skipped" };
</script>

<template>
  <section class="sheet stack step-up">
    <div class="spread">
      <h2>Bundle by bundle</h2>
      <span class="small faded"
        >{{ counted(stepUp.looks, "look") }}<template v-if="stepUp.mostLooks"> of {{ stepUp.mostLooks }}</template
        ><template v-if="stepUp.window.from"
          >, between {{ stepUp.window.from }} and {{ stepUp.window.to }} {{ stepUp.window.zone || "UTC" }}</template
        >, started by {{ stepUp.who }}</span
      >
    </div>
    <p role="status">
      {{ doing(stepUp) }}
      <RouterLink v-if="stepUp.run" :to="`/runs/${stepUp.run}`">See run {{ stepUp.run }}</RouterLink>
    </p>
    <table v-if="(stepUp.steps ?? []).length" v-listed class="tide">
      <thead>
        <tr>
          <th>Bundle</th>
          <th>Step</th>
          <th>Result</th>
          <th>Settings</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(s, i) in stepUp.steps ?? []" :key="i">
          <td class="nowrap">{{ i && stepUp.steps![i - 1]!.bundle === s.bundle ? "" : s.bundle }}</td>
          <td class="nowrap">
            <RouterLink v-if="s.run" :to="`/runs/${s.run}`">{{ kinds[s.kind] }}</RouterLink><template v-else>{{
              kinds[s.kind]
            }}</template>
            <span v-if="s.kind === 'try'" class="small faded" :title="s.adds?.map((k) => titleOf(s, k)).join(', ')">
              with {{ s.adds?.length }} more</span
            >
          </td>
          <td>
            <StateGlyph v-if="s.kind === 'try' && s.verdict" :state="s.verdict" bare class="came" />
            <span class="small">{{ s.text }}</span>
          </td>
          <td class="small">
            <p v-for="d in s.dropped ?? []" :key="d.key">
              <b>{{ titleOf(s, d.key) }}</b> is left out. {{ d.why }}
            </p>
            <p v-for="x in staysWith(s)" :key="x.title">
              <b>{{ x.title }}</b> stays, with
              <template v-for="(p, n) in x.patterns" :key="p"
                >{{ n ? ", " : "" }}<code>{{ p }}</code></template
              >
              excluded.
            </p>
            <p v-if="s.kind === 'try' && s.verdict === 'clear'">
              It stays<template v-if="s.adds?.length">: {{ s.adds.map((k) => titleOf(s, k)).join(", ") }}</template
              >.
            </p>
          </td>
        </tr>
      </tbody>
      <CsvFoot />
    </table>
    <div v-if="stepUp.phase !== 'over' && may('work')" class="row">
      <Button
        size="small"
        outlined
        label="Stop and keep what is proven"
        :disabled="stepUp.stopping"
        :loading="acts.stopStepUp.isPending.value"
        @click="acts.stopStepUp.mutate(change.id)"
      />
      <span class="small faded">You can leave this page; it continues.</span>
    </div>
    <Trouble :error="acts.stopStepUp.error.value" />
  </section>
</template>

<style scoped>
.step-up {
  margin-top: var(--s3);
}
.came {
  margin-right: 5px;
}
td {
  vertical-align: top;
}
</style>
