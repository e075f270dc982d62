<script setup lang="ts">
import Button from "primevue/button";
import Dialog from "primevue/dialog";
import InputText from "primevue/inputtext";
import Textarea from "primevue/textarea";
import { computed, ref } from "vue";
import { useRouter } from "vue-router";
import { useBundleActs } from "../change/queries";
import { useSettings } from "./settings";
import { useSession } from "../api/session";
import AskState from "../shared/AskState.vue";
import Fingerprint from "../shared/Fingerprint.vue";
import ParityPane from "./ParityPane.vue";
import SiteHead from "./SiteHead.vue";
import Trouble from "../shared/Trouble.vue";
import { flagInAddress, textInAddress } from "../shared/address";
import CsvFoot from "../shared/CsvFoot.vue";
import { counted, inWords, settingInWords } from "../shared/wording";

const props = defineProps<{ id: number }>();
const router = useRouter();
const { may } = useSession();
const { data, isPending, error, refetch } = useSettings(() => props.id);
const acts = useBundleActs();

const find = textInAddress("q");
const differing = flagInAddress("differing");
const marks = flagInAddress("marks");
const columns = computed(
  () => data.value?.columns.map((c, i) => ({ ...c, i })).filter((c) => marks.value || c.kind === "environment") ?? [],
);
const same = (key: string) => new Set(columns.value.map((c) => JSON.stringify(c.values[key]))).size <= 1;
const groups = computed(() => {
  const out = new Map<string, NonNullable<typeof data.value>["catalogue"]["settings"]>();
  const word = find.value.toLowerCase();
  for (const d of data.value?.catalogue.settings ?? []) {
    if (word && !`${d.title} ${d.summary} ${d.key} ${d.role}`.toLowerCase().includes(word)) continue;
    if (differing.value && same(d.key)) continue;
    out.set(d.group, [...(out.get(d.group) ?? []), d]);
  }
  return out;
});
type Definition = NonNullable<typeof data.value>["catalogue"]["settings"][number];
function worded(d: Definition, v: unknown) {
  if (d.type === "seconds" && v !== undefined) return settingInWords(d.type, v);
  return d.choices?.find((c) => c.value === v)?.title ?? shown(v);
}
function shown(v: unknown) {
  return v === undefined ? "not there" : inWords(v);
}

const bundling = ref<(typeof columns.value)[number]>();
const making = computed({ get: () => bundling.value !== undefined, set: (v) => !v && (bundling.value = undefined) });
const name = ref("");
const summary = ref("");
async function make() {
  const c = bundling.value!;
  await acts.make.mutateAsync({
    name: name.value,
    summary: summary.value,
    environment: c.environment,
    fingerprint: c.fingerprint,
  });
  making.value = false;
}

const carrying = ref(false);
const text = ref("");
const title = ref("");
const take = ref<string[]>([]);
const fit = computed(() => acts.fit.data.value);
async function look() {
  const f = await acts.fit.mutateAsync({ site: props.id, document: text.value });
  take.value = f.mapped.filter((m) => !m.confirm).map((m) => m.key);
  title.value ||= "Copied settings";
}
async function begin() {
  const c = await acts.take.mutateAsync({ site: props.id, document: text.value, title: title.value, take: take.value });
  await router.push(`/changes/${c.id}`);
}
async function upload(e: Event) {
  const f = (e.target as HTMLInputElement).files?.[0];
  if (f) text.value = await f.text();
}
</script>

<template>
  <AskState :pending="isPending" :error="error" what="The settings" @again="refetch()">
    <template v-if="data">
      <SiteHead :site="id" :name="data.siteName" here="Settings" />
      <div class="spread">
        <h1>Settings</h1>
        <Button v-if="may('work')" size="small" outlined label="Copy from another site" @click="carrying = true" />
      </div>
      <ParityPane :site="id" />
      <div class="row tools">
        <InputText v-model="find" size="small" placeholder="Search settings" aria-label="Search settings" />
        <Button
          size="small"
          text
          :label="differing ? 'Show all' : 'Only what differs'"
          @click="differing = !differing"
        />
        <Button size="small" text :label="marks ? 'Without marks' : 'With marks'" @click="marks = !marks" />
      </div>
      <p v-if="!columns.length" class="faded">Nothing has been read of this site yet.</p>
      <p v-else-if="!groups.size" class="faded">
        {{ differing ? "Nothing differs." : "No setting has that in its title, summary or key." }}
      </p>
      <div class="wide">
        <table v-if="groups.size" v-listed class="tide">
          <thead>
            <tr>
              <th>Setting</th>
              <th v-for="c in columns" :key="c.i" :data-name="c.name">
                {{ c.name }}
                <p class="small"><Fingerprint :value="c.fingerprint" /></p>
                <p class="small acts">
                  <a
                    :href="`/api/v1/environments/${c.environment}/revisions/${c.fingerprint}`"
                    :download="`${data.siteName} ${c.fingerprint.slice(0, 8)}.json`"
                    >Export</a
                  >
                  <Button v-if="may('work')" text size="small" label="Create a bundle" @click="bundling = c" />
                </p>
              </th>
            </tr>
          </thead>
          <tbody v-for="[group, defs] in groups" :key="group">
            <tr>
              <th :colspan="columns.length + 1" class="group">{{ group }}</th>
            </tr>
            <tr v-for="d in defs" :key="d.key" :class="{ differs: !same(d.key) }">
              <td>
                <b>{{ d.title }}</b> <span class="risk" aria-hidden="true">{{ "▾".repeat(d.risk) }}</span>
                <p class="small faded">{{ d.summary }}</p>
                <p v-if="data.lacking[d.key]" class="small lacking">{{ data.lacking[d.key] }}</p>
              </td>
              <td v-for="c in columns" :key="c.i">{{ worded(d, c.values[d.key]) }}</td>
            </tr>
          </tbody>
          <CsvFoot />
        </table>
      </div>
      <Dialog v-model:visible="making" modal header="Create a bundle" :style="{ width: '30rem' }" :draggable="false">
        <form class="stack" @submit.prevent="make">
          <p>
            Of {{ bundling?.name }}: its values by role, so that they fit other sites. Addresses, cookies and scripts
            are not included.
          </p>
          <label for="bundle-name">Name</label>
          <InputText id="bundle-name" v-model="name" required maxlength="60" autofocus />
          <label for="bundle-summary">Purpose</label>
          <InputText id="bundle-summary" v-model="summary" maxlength="500" />
          <Trouble :error="acts.make.error.value" />
          <Button type="submit" label="Create" :disabled="!name.trim()" :loading="acts.make.isPending.value" />
        </form>
      </Dialog>
      <Dialog
        v-model:visible="carrying"
        modal
        header="Copy from another site"
        :style="{ width: '52rem' }"
        :draggable="false"
      >
        <div class="stack">
          <form class="stack" @submit.prevent="look">
            <label for="carried">The document that “Export” made on the other site</label>
            <input type="file" accept="application/json" aria-label="A file with the document" @change="upload" />
            <Textarea id="carried" v-model="text" rows="5" class="mono" spellcheck="false" />
            <Trouble :error="acts.fit.error.value" />
            <Button
              type="submit"
              size="small"
              outlined
              label="See what fits"
              :disabled="!text.trim()"
              :loading="acts.fit.isPending.value"
            />
          </form>
          <form v-if="fit" class="stack" @submit.prevent="begin">
            <p>Already the same: {{ counted(fit.same, "setting") }}.</p>
            <table v-if="fit.mapped.length" v-listed class="tide">
              <thead>
                <tr>
                  <th>Take</th>
                  <th>There</th>
                  <th>Here</th>
                  <th>Now</th>
                  <th>Then</th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="m in fit.mapped" :key="m.key">
                  <td><input v-model="take" type="checkbox" :value="m.key" :aria-label="`Take ${m.title}`" /></td>
                  <td>{{ m.from.title }}</td>
                  <td>
                    {{ m.title }}
                    <p v-if="m.confirm" class="small lacking">
                      Specific to the other site; tick it only if it is right here.
                    </p>
                  </td>
                  <td>{{ shown(m.now) }}</td>
                  <td>
                    <b>{{ shown(m.value) }}</b>
                  </td>
                </tr>
              </tbody>
              <CsvFoot />
            </table>
            <details v-if="fit.without.length">
              <summary>{{ fit.without.length }} without a counterpart here</summary>
              <ul class="small">
                <li v-for="w in fit.without" :key="w.why">{{ w.why }}</li>
              </ul>
            </details>
            <label for="carried-title">Title of the change</label>
            <InputText id="carried-title" v-model="title" required />
            <Trouble :error="acts.take.error.value" />
            <Button
              type="submit"
              label="Start a change with what is ticked"
              :disabled="!take.length"
              :loading="acts.take.isPending.value"
            />
          </form>
        </div>
      </Dialog>
    </template>
  </AskState>
</template>

<style scoped>
.tools {
  margin: var(--s2) 0 var(--s3);
}
.wide {
  overflow-x: auto;
}
table .group {
  padding-top: var(--s4);
  border-bottom-width: 1px;
  color: var(--deep);
  font-weight: 600;
}
.differs td {
  background: var(--shoal);
}
.risk {
  color: var(--unsure);
}
.lacking {
  border-left: 3px solid var(--blind);
  padding-left: 6px;
}
.acts {
  display: flex;
  gap: var(--s2);
  align-items: center;
}
td {
  overflow-wrap: anywhere;
}
</style>
