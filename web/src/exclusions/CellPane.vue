<script setup lang="ts">
/** A cell of the matrix down to its pages and rules, and what was decided for it. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { ref, watch } from "vue";
import { useExclusionActs, type Cell } from "./queries";
import { useSession } from "../api/session";
import { inWords } from "./cells";
import CellSign from "./CellSign.vue";
import Trouble from "../shared/Trouble.vue";
import CsvFoot from "../shared/CsvFoot.vue";

const props = defineProps<{ cell: Cell; site: number; run: number }>();
const { may } = useSession();
const acts = useExclusionActs(() => props.site);
const seen = {
  cached: "served from the cache",
  own: "from a copy of their own",
  made: "from the origin",
  unknown: "not looked at",
  mixed: "mixed",
} as const;

const deciding = ref(false);
const policy = ref<Cell["policy"] | "">("never");
const reason = ref("");
watch(
  () => props.cell,
  (c) => {
    deciding.value = false;
    policy.value = c.policy;
    reason.value = "";
  },
);
async function decide() {
  await acts.decide.mutateAsync({
    class: props.cell.class,
    persona: props.cell.persona,
    policy: policy.value,
    reason: reason.value,
  });
  deciding.value = false;
}
</script>

<template>
  <section class="sheet stack" aria-label="The chosen cell">
    <h2><CellSign :cell="cell" /> {{ cell.class }}, {{ cell.persona }}, {{ cell.device }}</h2>
    <p>
      {{ cell.text }}
      <RouterLink v-if="cell.nobody" :to="`/sites/${site}/test-plan`">Add a persona</RouterLink>
    </p>
    <dl>
      <dt>Policy</dt>
      <dd>
        {{ inWords(cell.policy) }}
        <span v-if="cell.decided" class="small">— {{ cell.decided.who }}: {{ cell.decided.reason }}</span>
        <span v-else class="small faded">— by default</span>
      </dd>
      <dt>Settings say</dt>
      <dd>{{ cell.says === "mixed" ? "not the same for all pages" : inWords(cell.says) }}</dd>
      <dt>Seen</dt>
      <dd>
        {{ seen[cell.seen] }}
        <RouterLink v-if="run && cell.seen !== 'unknown'" :to="`/runs/${run}`" class="small"
          >in run {{ run }}</RouterLink
        >
      </dd>
    </dl>
    <table v-listed class="tide">
      <thead>
        <tr>
          <th>Page</th>
          <th>Settings say</th>
          <th>Seen</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="p in cell.pages" :key="p.path">
          <td class="path">{{ p.path }}</td>
          <td class="small">{{ inWords(p.says.policy) }}: {{ p.says.why }}</td>
          <td class="small">{{ seen[p.seen] }}</td>
        </tr>
      </tbody>
      <CsvFoot />
    </table>
    <p v-if="cell.count > cell.pages.length" class="small faded">The first of {{ cell.count }} pages.</p>
    <div v-if="may('decide') && !cell.nobody">
      <Button v-if="!deciding" size="small" outlined label="Change the policy" @click="deciding = true" />
      <form v-else class="stack" @submit.prevent="decide">
        <label for="policy">Pages of the class “{{ cell.class }}” for {{ cell.persona }}</label>
        <select id="policy" v-model="policy">
          <option value="never">are never served from the cache</option>
          <option value="all">may be cached for all</option>
          <option value="own">are cached as a copy for each</option>
          <option value="">follow the default</option>
        </select>
        <label for="policy-reason">Why</label>
        <InputText id="policy-reason" v-model="reason" size="small" required maxlength="2000" />
        <Trouble :error="acts.decide.error.value" />
        <div class="row">
          <Button type="submit" size="small" label="Set the policy" :loading="acts.decide.isPending.value" />
          <Button size="small" text label="Cancel" @click="deciding = false" />
        </div>
      </form>
    </div>
  </section>
</template>

<style scoped>
dl {
  display: grid;
  grid-template-columns: 7rem 1fr;
  gap: 2px var(--s2);
  margin: 0;
}
dt {
  color: var(--faded);
}
dd {
  margin: 0;
}
.path {
  overflow-wrap: anywhere;
}
</style>
