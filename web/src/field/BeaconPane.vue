<script setup lang="ts">
/** How a site's visitors tell how fast it is, and field data of elsewhere. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref } from "vue";
import { useBeacon, useFieldActs } from "./queries";
import { useSession } from "../api/session";
import { useAsking } from "../shared/asking";
import AskState from "../shared/AskState.vue";
import { snippet } from "./field";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";
import { counted } from "../shared/wording";

const props = defineProps<{ site: number }>();
const { data: beacon, isPending, error, refetch } = useBeacon(() => props.site);
const acts = useFieldActs(() => props.site);
const { may } = useSession();
const ask = useAsking();
const replaceKey = () =>
  ask({
    title: "Replace the beacon’s key?",
    says: "Page views are lost from every page that still has the old script, until it has the new one.",
    verb: "Replace it",
    go: () => acts.beacon.mutate({ on: true, share: beacon.value?.share }),
  });
const stop = () =>
  ask({
    title: "Stop the beacon?",
    says: "No page view is recorded any longer. Started again, it has another key, so pages need another script.",
    verb: "Stop it",
    go: () => acts.beacon.mutate({ on: false }),
  });
const share = ref("100");
const address = computed(() => `${location.origin}${beacon.value?.script ?? ""}`);
const read = ref<number>();
async function choose(e: Event) {
  const input = e.target as HTMLInputElement;
  const file = input.files?.[0];
  if (!file) return;
  read.value = undefined;
  try {
    read.value = (await acts.read.mutateAsync(await file.text())).days;
  } finally {
    input.value = "";
  }
}
</script>

<template>
  <section class="sheet stack">
    <h2>How field data is collected</h2>
    <AskState :pending="isPending" :error="error" what="The beacon" @again="refetch()">
      <template v-if="beacon?.on">
        <p class="small">
          Put this into the pages. It reports once, when a page is left: the vitals, the path, phone or desktop. It sets
          no cookie and identifies nobody, reports {{ Math.round((beacon.share ?? 1) * 100) }} % of page views, and none
          whose browser says “do not track”.
        </p>
        <pre><code>{{ snippet(address) }}</code></pre>
        <p class="small faded">
          To have it come from the site's own host, pass a path of it on to this server; the script tells whatever
          address it came from. Made by {{ beacon.madeBy }}, <When v-if="beacon.madeAt" :at="beacon.madeAt" />. Once the
          key is replaced or the beacon stopped, pages that have the old script are not listened to; what was told
          stays.
        </p>
        <div v-if="may('work')" class="row">
          <Button
            size="small"
            outlined
            label="Replace the key"
            :loading="acts.beacon.isPending.value"
            @click="replaceKey"
          />
          <Button size="small" text label="Stop the beacon" @click="stop" />
        </div>
      </template>
      <template v-else-if="beacon">
        <p class="small">
          No field data is collected yet. A small script in the pages reports it, without cookies and without
          identifying anybody.
        </p>
        <form
          v-if="may('work')"
          class="row"
          @submit.prevent="acts.beacon.mutate({ on: true, share: (Number(share) || 100) / 100 })"
        >
          <Button type="submit" size="small" label="Create a beacon" :loading="acts.beacon.isPending.value" />
          <label for="beacon-share" class="small">of</label>
          <InputText
            id="beacon-share"
            v-model="share"
            inputmode="numeric"
            pattern="[0-9]{1,3}"
            size="small"
            class="few"
          />
          <span class="small">% of page views</span>
        </form>
      </template>
    </AskState>
    <Trouble :error="acts.beacon.error.value" />
    <div v-if="may('work')" class="row">
      <label for="field-file" class="small"
        >Field data from elsewhere, as CSV (day, device, metric, p75; class, visits)</label
      >
      <input id="field-file" type="file" accept=".csv,text/csv" @change="choose" />
    </div>
    <p v-if="read" class="small" role="status">{{ counted(read, "day") }} read.</p>
    <Trouble :error="acts.read.error.value" />
  </section>
</template>

<style scoped>
pre {
  margin: 0;
  padding: var(--s2);
  background: var(--paper);
  border: 1px solid var(--rule);
  overflow-x: auto;
}
.few {
  width: 3.6rem;
}
</style>
