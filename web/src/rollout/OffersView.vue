<script setup lang="ts">
/** What a change that settled would be on each of the other sites, and beginning to take it there. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import Textarea from "primevue/textarea";
import { computed, ref, watch } from "vue";
import { useRouter } from "vue-router";
import { useChange } from "../change/queries";
import { useOffers, useRolloutActs, type Terms } from "./queries";
import AskState from "../shared/AskState.vue";
import { lacking, numbered, taken, termsOf, type Chosen } from "./rollouts";
import SiteHead from "../site/SiteHead.vue";
import Trouble from "../shared/Trouble.vue";
import { counted, inWords } from "../shared/wording";
import { textInAddress } from "../shared/address";
import CsvFoot from "../shared/CsvFoot.vue";

const props = defineProps<{ id: number }>();
const router = useRouter();
const { data: change, isPending, error, refetch } = useChange(() => props.id);
const { data: offers, error: unread } = useOffers(() => props.id);
const acts = useRolloutActs();

const all = ref<Chosen[]>([]);
watch(
  offers,
  (now) => {
    const before = new Map(all.value.map((c) => [c.offer.site, c]));
    all.value = (now ?? []).map((offer) => ({ wave: 1, take: false, confirmed: [], ...before.get(offer.site), offer }));
  },
  { immediate: true },
);
const label = textInAddress("label");
const labels = computed(() => [...new Set(all.value.flatMap((c) => c.offer.labels))].sort());
const listed = computed(() => all.value.filter((c) => !label.value || c.offer.labels.includes(label.value)));
const free = (c: Chosen) => !c.offer.why && !c.offer.in;
const fitting = computed(() => listed.value.filter(free));
const others = computed(() => listed.value.filter((c) => !free(c)));
const allTaken = computed(() => fitting.value.length > 0 && fitting.value.every((c) => c.take));
function takeAll() {
  const to = !allTaken.value;
  for (const c of fitting.value) c.take = to;
  numbered(all.value);
}

const words = ref<{ title: string; reason: string; pace: Terms["pace"]; measures: boolean }>({
  title: "",
  reason: "",
  pace: "check",
  measures: true,
});
watch(change, (c) => c && !words.value.title && (words.value.title = c.title), { immediate: true });
const lacks = computed(() => lacking(words.value.title, all.value));
async function begin() {
  const r = await acts.begin.mutateAsync({ change: props.id, terms: termsOf(words.value, all.value) });
  await router.push(`/rollouts/${r.id}`);
}
</script>

<template>
  <AskState :pending="isPending" :error="error ?? unread" what="The change" @again="refetch()">
    <template v-if="change">
      <SiteHead :site="change.site" :name="change.siteName" here="Other sites" />
      <h1>Roll “{{ change.title }}” out to other sites</h1>
      <p class="faded">
        Its settings are found on each site by their role. It is tried on every staging in parallel. Nothing is promoted
        until you release it, wave by wave, and it stops at the first site that is not clear.
      </p>
      <form class="stack" @submit.prevent="!lacks && begin()">
        <div class="spread">
          <h2>Sites</h2>
          <span class="row">
            <select v-if="labels.length" v-model="label" aria-label="Label">
              <option value="">all labels</option>
              <option v-for="l in labels" :key="l">{{ l }}</option>
            </select>
            <Button
              v-if="fitting.length > 1"
              size="small"
              text
              :label="allTaken ? 'Choose none' : `Choose all ${fitting.length}`"
              @click="takeAll"
            />
          </span>
        </div>
        <p v-if="!fitting.length" class="faded">
          No other site can take it{{ label ? " with this label" : "" }}. The reasons are below.
        </p>
        <table v-else v-listed class="tide">
          <thead>
            <tr>
              <th>Site</th>
              <th>Wave</th>
              <th>Gets</th>
              <th>Does not get</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="c in fitting" :key="c.offer.site">
              <td>
                <label class="site"
                  ><input v-model="c.take" type="checkbox" @change="numbered(all)" /> <b>{{ c.offer.name }}</b></label
                >
                <span v-for="l in c.offer.labels" :key="l" class="small faded label">{{ l }}</span>
              </td>
              <td>
                <input
                  v-if="c.take"
                  v-model.number="c.wave"
                  type="number"
                  min="1"
                  max="20"
                  class="wave"
                  :aria-label="`Wave of ${c.offer.name}`"
                />
              </td>
              <td>
                <ul class="plain-list small">
                  <li v-for="m in c.offer.fit.mapped" :key="m.key">
                    <label v-if="m.confirm"
                      ><input v-model="c.confirmed" type="checkbox" :value="m.key" /> {{ m.title }}:
                      <code>{{ inWords(m.value) }}</code>
                      <span class="faded"> (right on this site, too? Then tick it)</span></label
                    >
                    <template v-else>{{ m.title }}: {{ inWords(m.now) }} → {{ inWords(m.value) }}</template>
                  </li>
                  <li v-if="c.offer.fit.same" class="faded">{{ c.offer.fit.same }} as it is there already</li>
                </ul>
                <p v-if="c.take && !taken(c).length" class="small">Nothing is ticked.</p>
              </td>
              <td>
                <ul class="plain-list small">
                  <li v-for="u in c.offer.fit.without" :key="u.why">{{ u.why }}</li>
                </ul>
              </td>
            </tr>
          </tbody>
          <CsvFoot />
        </table>
        <details v-if="others.length">
          <summary>{{ counted(others.length, "site") }} that cannot take it, or have it</summary>
          <ul class="plain-list small">
            <li v-for="c in others" :key="c.offer.site">
              <b>{{ c.offer.name }}</b>:
              <template v-if="c.offer.in"
                >it is in <RouterLink :to="`/rollouts/${c.offer.in}`">rollout {{ c.offer.in }}</RouterLink></template
              >
              <template v-else>{{ c.offer.why }}</template>
            </li>
          </ul>
        </details>
        <template v-if="fitting.length">
          <h2>How</h2>
          <div class="how">
            <label class="field"
              >Title of the changes <InputText v-model="words.title" size="small" maxlength="200"
            /></label>
            <label class="field"
              >The next wave follows
              <select v-model="words.pace">
                <option value="check">when all its checks are clear</option>
                <option value="watch">when all its watches are over and clear</option>
              </select></label
            >
            <label class="field whole"
              >Why (optional) <Textarea v-model="words.reason" rows="2" maxlength="4000" auto-resize
            /></label>
          </div>
          <label><input v-model="words.measures" type="checkbox" /> Measure each staging to see what got faster</label>
          <Trouble :error="acts.begin.error.value" />
          <div class="row">
            <Button
              type="submit"
              label="Try it on each staging"
              :disabled="!!lacks"
              :loading="acts.begin.isPending.value"
            />
            <span v-if="lacks" class="small faded">{{ lacks }}</span>
          </div>
        </template>
      </form>
    </template>
  </AskState>
</template>

<style scoped>
.site {
  white-space: nowrap;
}
.label {
  display: block;
}
.wave {
  width: 4rem;
}
.how {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: var(--s3);
}
.field {
  display: flex;
  flex-direction: column;
  gap: 3px;
  font-size: 0.88rem;
  color: var(--faded);
}
.whole {
  grid-column: 1 / -1;
}
td {
  vertical-align: top;
}
@media (max-width: 900px) {
  .how {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
