<script setup lang="ts">
/** A search for the culprit: each edit of the change, and each try with the edits that it had in force. */
import Button from "primevue/button";
import { computed } from "vue";
import { useRouter } from "vue-router";
import type { Schemas } from "../api/client";
import { useChangeActs } from "../change/queries";
import { useRunActs, type Run } from "./queries";
import { useSession } from "../api/session";
import StateGlyph from "../shared/StateGlyph.vue";
import Trouble from "../shared/Trouble.vue";
import { lasting } from "./lasting";
import { knownOf, tryTitle } from "./search";
import TermHint from "../shared/TermHint.vue";
import { counted } from "../shared/wording";

const props = defineProps<{ run: Run }>();
const acts = { ...useChangeActs(), ...useRunActs() };
const { may } = useSession();
const s = computed(() => props.run.search!);
const over = computed(() => ["done", "stopped", "failed"].includes(props.run.state));
const known = computed(() => knownOf(s.value));
const names = (culprit: number) =>
  (s.value.culprits?.[culprit] ?? []).map((i) => `“${s.value.edits[i]!.text}”`).join(" and ");

/** Whether the change can still take an exclusion: it is not on its way to production, there, or gone. */
const editable = computed(() =>
  ["drafted", "on staging", "checked", "rolled back"].includes(props.run.changeState ?? ""),
);
const router = useRouter();
async function exclude(e: Schemas["SearchedExclusions"]) {
  await acts.exclude.mutateAsync({
    change: props.run.change!,
    exclude: e.patterns.map((pattern) => ({ key: e.key, pattern })),
    reason: `Without it ${names(e.culprit)} breaks the site: found by culprit search ${props.run.id}.`,
  });
  await router.push(`/changes/${props.run.change}`);
}
const words: Record<string, string> = {
  culprit: "breaks it",
  together: "breaks it together",
  suspected: "suspected",
  innocent: "breaks nothing",
  unknown: "not known yet",
};
</script>

<template>
  <section class="stack search">
    <div class="row">
      <h2>{{ over ? "What was tried" : "What is known" }} in this <TermHint of="culprit">culprit search</TermHint></h2>
      <span class="small faded"
        >about what <RouterLink :to="`/runs/${s.ofRun}`">run {{ s.ofRun }}</RouterLink> found</span
      >
    </div>
    <p v-if="!over" role="status">
      {{ known }}
      <template v-if="s.left"
        >About {{ counted(s.left, "more try", "more tries")
        }}<template v-if="s.seconds">, {{ lasting(s.seconds) }}</template
        >.</template
      >
    </p>
    <div class="scroll">
      <table class="tries">
        <thead>
          <tr>
            <th scope="col">Edit</th>
            <th scope="col">Known</th>
            <th v-for="(t, i) in s.tries" :key="i" scope="col" class="try" :title="tryTitle(t)">{{ i + 1 }}</th>
            <th v-if="s.trying.length" scope="col" class="try now">{{ s.tries.length + 1 }}</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(e, i) in s.edits" :key="i" :class="e.state">
            <th scope="row">
              {{ e.text }}
              <span v-if="e.needs.length" class="small faded"
                >tried with {{ e.needs.map((n) => s.edits[n]!.text).join(", ") }}</span
              >
            </th>
            <td><StateGlyph :state="e.state" :word="words[e.state]" /></td>
            <td v-for="(t, n) in s.tries" :key="n" class="try" :class="t.outcome">
              <span v-if="t.edits.includes(i)" class="dot"><span class="visually-hidden">in force</span></span>
            </td>
            <td v-if="s.trying.length" class="try now">
              <span v-if="s.trying.includes(i)" class="dot"><span class="visually-hidden">in force</span></span>
            </td>
          </tr>
        </tbody>
        <tfoot>
          <tr>
            <th scope="row" colspan="2">Result</th>
            <td v-for="(t, n) in s.tries" :key="n" class="try" :title="tryTitle(t)">
              <RouterLink v-if="t.fromRun" :to="`/runs/${t.fromRun}`"
                ><StateGlyph :state="t.outcome" :word="tryTitle(t)" bare
              /></RouterLink>
              <StateGlyph v-else :state="t.outcome" :word="tryTitle(t)" bare />
            </td>
            <td v-if="s.trying.length" class="try now"><StateGlyph state="running" word="being tried" bare /></td>
          </tr>
        </tfoot>
      </table>
    </div>
    <p class="small faded">
      A dot: the edit was in force in that try. Triangle: the findings show. Disc: they do not. Dashed ring: it could
      not be decided. A linked sign comes from an earlier run.
    </p>
    <div v-for="(e, i) in s.exclusions" :key="i" class="sheet stack">
      <h3>What has to be excluded so that {{ names(e.culprit) }} may stay</h3>
      <template v-if="e.patterns.length">
        <ul class="patterns">
          <li v-for="(p, n) in e.patterns" :key="p">
            <code>{{ p }}</code> <span class="small faded">{{ e.why[n] }}</span>
          </li>
        </ul>
        <p class="small">
          {{ e.rough ? "Of" : "The fewest of" }} {{ e.among }} in “{{ e.title }}”, found in
          {{ counted(e.tries, "try", "tries") }}: with {{ e.patterns.length === 1 ? "it" : "these" }} excluded nothing
          of what was found shows. <template v-if="e.rough">Fewer may do; that was not tried to the end. </template
          ><template v-if="e.cost">What it costs: {{ e.cost }}</template>
        </p>
        <div v-if="over && editable && may('work')" class="row">
          <Button
            size="small"
            label="Exclude in the change"
            :loading="acts.exclude.isPending.value"
            @click="exclude(e)"
          />
          <span class="small faded">Then try the change again.</span>
        </div>
      </template>
      <p v-else-if="!e.over" role="status">
        Looking for the fewest of {{ e.among }} in “{{ e.title }}”; about
        {{ counted(e.left, "more try", "more tries") }}.
      </p>
      <p v-else>
        Nothing of {{ e.among }} in “{{ e.title }}” helps: it breaks with all of them excluded, or it was not tried.
      </p>
      <Trouble :error="acts.exclude.error.value" />
    </div>
    <div v-if="over && editable && may('work') && (s.culprits ?? []).length" class="stack">
      <div v-for="i in (s.culprits ?? []).keys()" :key="i" class="row">
        <Button
          size="small"
          outlined
          :label="`Remove ${names(i)} from the change`"
          :disabled="acts.removeCulprit.isPending.value"
          @click="
            acts.removeCulprit.mutate(
              { run: run.id, culprit: i },
              { onSuccess: (x) => router.push(`/changes/${x.id}`) },
            )
          "
        />
        <span v-if="s.costs?.[i]" class="small">What it costs: {{ s.costs[i] }}</span>
      </div>
      <p class="small faded">
        Everything else stays; try the change again then. How much faster each solution makes the site is measured on
        the change's page, once it is on {{ run.environment }}.
      </p>
    </div>
    <Trouble :error="acts.removeCulprit.error.value" />
    <div v-if="!over && may('work')" class="row">
      <Button
        size="small"
        outlined
        :label="s.enough ? 'Stopping after this try' : 'Stop with what is known'"
        :disabled="s.enough"
        @click="acts.enough.mutate(run.id)"
      />
    </div>
  </section>
</template>

<style scoped>
.scroll {
  overflow-x: auto;
}
.tries {
  border-collapse: collapse;
}
.tries th,
.tries td {
  padding: 4px var(--s3) 4px 0;
  text-align: left;
  font-weight: 400;
  border-bottom: 1px solid var(--rule);
}
.tries thead th,
.tries tfoot th {
  font-family: var(--chart);
  font-style: italic;
  color: var(--faded);
}
.tries .try {
  text-align: center;
  padding: 4px 6px;
  min-width: 2.1rem;
  border-left: 1px dotted var(--rule);
}
.tries .now {
  background: var(--shoal);
}
.tries .culprit th,
.tries .together th {
  font-weight: 700;
}
.patterns {
  margin: 0;
  padding-left: 1.2rem;
}
.dot {
  display: inline-block;
  width: 9px;
  height: 9px;
  border-radius: 50%;
  background: var(--rule-strong);
}
.fails .dot {
  background: var(--broken);
}
.passes .dot {
  background: var(--clear);
}
.now .dot {
  background: var(--deep);
}
</style>
