<script setup lang="ts">
/** Excludes what a finding points at, several patterns at once, and tries the change again if wished. */
import Button from "primevue/button";
import Dialog from "primevue/dialog";
import InputText from "primevue/inputtext";
import Textarea from "primevue/textarea";
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { useChangeActs } from "../change/queries";
import Trouble from "../shared/Trouble.vue";
import { ticked, withOwn, type Candidate } from "./excluding";
import type { Finding, Run } from "./queries";

const props = defineProps<{ finding: Finding; run: Run; candidates: Candidate[] }>();
const open = defineModel<boolean>({ required: true });
const acts = useChangeActs();
const router = useRouter();

const most = 20;
const listed = computed(() => props.candidates.slice(0, most));
/** The likeliest comes first, and is ticked. */
const ticks = ref<boolean[]>(listed.value.map((c, i) => i === 0 && c.pattern !== ""));
const lists = computed(() => [...new Map(props.candidates.map((c) => [c.key, c.title]))]);
const own = ref({ key: props.candidates[0]?.key ?? "", pattern: "" });
const reason = ref(`${props.finding.title} (run ${props.run.id})`);
const chosen = computed(() => withOwn(ticked(listed.value, ticks.value), own.value));

const excluded = ref(false);
async function exclude(again: boolean) {
  const change = props.run.change!;
  if (!excluded.value) {
    await acts.exclude.mutateAsync({
      change,
      exclude: chosen.value,
      reason: reason.value,
      finding: props.finding.id,
    });
    excluded.value = true;
  }
  if (!again) return void (await router.push(`/changes/${change}`));
  const c = await acts.act.mutateAsync({ id: change, act: "try" });
  const begun = c.runs.find((r) => !r.finishedAt);
  await router.push(begun ? `/runs/${begun.id}` : `/changes/${change}`);
}
</script>

<template>
  <Dialog v-model:visible="open" modal header="Exclude" :style="{ width: '38rem' }" :draggable="false">
    <form class="stack" @submit.prevent="exclude(true)">
      <fieldset class="candidates" :disabled="excluded">
        <legend class="small faded">
          Likeliest first<template v-if="candidates.length > most"
            >; the first {{ most }} of {{ candidates.length }}</template
          >
        </legend>
        <label v-for="(c, i) in listed" :key="c.key + c.pattern" class="candidate">
          <input v-model="ticks[i]" type="checkbox" :disabled="!c.pattern" />
          <span
            ><code v-if="c.pattern">{{ c.pattern }}</code>
            <span class="small faded">in “{{ c.title }}”: {{ c.why }}</span></span
          >
        </label>
      </fieldset>
      <div class="row">
        <label for="own-pattern">Another pattern</label>
        <InputText id="own-pattern" v-model="own.pattern" class="mono" :disabled="excluded" />
        <label for="own-key">in</label>
        <select id="own-key" v-model="own.key" :disabled="excluded">
          <option v-for="[key, title] in lists" :key="key" :value="key">{{ title }}</option>
        </select>
      </div>
      <label for="exclude-why">Why</label>
      <Textarea id="exclude-why" v-model="reason" rows="2" required :disabled="excluded" />
      <Trouble :error="acts.exclude.error.value ?? acts.act.error.value" />
      <p v-if="excluded && acts.act.error.value" class="small">
        The exclusions are part of the change. It was not tried.
      </p>
      <div class="row">
        <Button
          type="submit"
          label="Exclude and try again"
          :disabled="!chosen.length || !reason.trim()"
          :loading="acts.exclude.isPending.value || acts.act.isPending.value"
        />
        <Button
          :label="excluded ? 'Go to the change' : 'Exclude only'"
          outlined
          :disabled="!chosen.length || !reason.trim()"
          @click="exclude(false)"
        />
      </div>
    </form>
  </Dialog>
</template>

<style scoped>
.candidates {
  border: 0;
  padding: 0;
  margin: 0;
  max-height: 15rem;
  overflow: auto;
}
.candidate {
  display: flex;
  gap: var(--s2);
  padding: 3px 0;
}
</style>
