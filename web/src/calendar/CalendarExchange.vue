<script setup lang="ts">
/** A calendar and other programs: files in and out, and an address to subscribe to. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref } from "vue";
import { useCalendarActs } from "./queries";
import type { Schemas } from "../api/client";
import { useSession } from "../api/session";
import { useAsking } from "../shared/asking";
import OnceShown from "../shared/OnceShown.vue";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";

const props = defineProps<{ site: number; address?: Schemas["AddressView"] }>();
const { may } = useSession();
const acts = useCalendarActs();
const ask = useAsking();
function makeAddress() {
  if (!props.address) return acts.address.mutate(props.site);
  ask({
    title: "Replace the calendar’s address?",
    says: "The address that programs read now stops working, and is not shown again.",
    verb: "Replace it",
    go: () => acts.address.mutate(props.site),
  });
}
const removeAddress = () =>
  ask({
    title: "Remove the calendar’s address?",
    says: "Programs that read it get nothing from then on.",
    verb: "Remove it",
    go: () => acts.noAddress.mutate(props.site, { onSuccess: () => acts.address.reset() }),
  });
const kind = ref<"freeze" | "window">("freeze");
const zone = ref(Intl.DateTimeFormat().resolvedOptions().timeZone || "UTC");
const said = ref("");
async function bring(e: Event) {
  const input = e.target as HTMLInputElement;
  const file = input.files?.[0];
  if (!file) return;
  said.value = "";
  try {
    const got = await acts.bring.mutateAsync({
      site: props.site,
      file: await file.text(),
      kind: kind.value,
      zone: zone.value,
    });
    said.value = `${got.added} added, ${got.replaced} replaced.`;
  } finally {
    input.value = "";
  }
}
const made = computed(() => acts.address.data.value?.address);
const whole = computed(() => (made.value ? location.origin + made.value : ""));
</script>

<template>
  <details>
    <summary>Other calendars</summary>
    <div class="stack inside">
      <p>
        <a :href="`/api/v1/calendar/export?site=${site}`" download>Download as iCalendar</a>
      </p>
      <div v-if="may('decide')" class="stack">
        <div class="row">
          <label for="bring-kind" class="small">Import events as</label>
          <select id="bring-kind" v-model="kind">
            <option value="freeze">freezes</option>
            <option value="window">windows</option>
          </select>
          <label for="bring-zone" class="small">where none is given, in</label>
          <InputText id="bring-zone" v-model="zone" size="small" list="zones" class="zone" />
        </div>
        <input type="file" accept=".ics,text/calendar" aria-label="iCalendar file" @change="bring" />
        <p v-if="said" role="status" class="small">{{ said }}</p>
        <Trouble :error="acts.bring.error.value" />
      </div>
      <div v-if="may('work')" class="stack">
        <p class="small faded">
          <template v-if="address">
            An address to subscribe to was created by {{ address.madeBy }}, <When :at="address.madeAt" short />;
            <template v-if="address.usedAt">last read <When :at="address.usedAt" short />.</template>
            <template v-else>not read yet.</template>
          </template>
          <template v-else>Create an address to subscribe to this calendar from another program.</template>
        </p>
        <OnceShown
          v-if="whole"
          :value="whole"
          what="Anybody who has this address can read the calendar. It is shown only now."
        />
        <div class="row">
          <Button
            size="small"
            outlined
            :label="address ? 'Replace the address' : 'Create an address'"
            :loading="acts.address.isPending.value"
            @click="makeAddress"
          />
          <Button
            v-if="address"
            size="small"
            text
            label="Remove"
            :loading="acts.noAddress.isPending.value"
            @click="removeAddress"
          />
        </div>
        <Trouble :error="acts.address.error.value ?? acts.noAddress.error.value" />
      </div>
    </div>
  </details>
</template>

<style scoped>
summary {
  cursor: pointer;
  color: var(--deep);
}
.inside {
  padding: var(--s2) 0;
}
.zone {
  width: 11rem;
}
</style>
