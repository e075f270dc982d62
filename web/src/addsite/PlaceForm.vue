<script setup lang="ts">
/** Where a site that is being added is: its environments and how their settings are changed. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref, watch } from "vue";
import { useRouter } from "vue-router";
import { useOnboardingActs, type Place, type Onboarding } from "./queries";
import { useKinds } from "../site/queries";
import Trouble from "../shared/Trouble.vue";

const props = defineProps<{ onboarding?: Onboarding }>();
const router = useRouter();
const acts = useOnboardingActs();

const name = ref("");
const places = ref<Place[]>([
  { name: "staging", role: "staging", url: "", kind: "http", connector: "", token: "" },
  { name: "production", role: "production", url: "", kind: "http", connector: "", token: "" },
]);
const example = (name: string) =>
  name === "production" ? "https://www.example.org" : `https://${name || "staging"}.example.org`;
const { data: kinds } = useKinds();
const needsAddress = (kind: string) => kinds.value?.find((k) => k.name === kind)?.needsAddress ?? true;
/** The places as they are sent: without the empty hosts of somebody who is typing. */
const said = computed(() => places.value.map((p) => ({ ...p, hosts: (p.hosts ?? []).filter(Boolean) })));
const hostsOf = (said?: string) => (said ?? "").split(",").map((h) => h.trim());
watch(
  () => props.onboarding?.environments,
  (list) => {
    if (list?.length)
      places.value = list.map((e) => ({
        name: e.name,
        url: e.url,
        hosts: e.hosts,
        role: e.role,
        kind: e.connector?.kind ?? "http",
        connector: e.connector?.url ?? "",
        token: "",
      }));
  },
  { immediate: true },
);
async function place() {
  if (props.onboarding) {
    await acts.place.mutateAsync({ id: props.onboarding.id, environments: said.value });
    return;
  }
  const t = await acts.begin.mutateAsync({ name: name.value, environments: said.value });
  await router.replace(`/add-site/${t.id}`);
}
</script>

<template>
  <form class="stack" @submit.prevent="place">
    <div v-if="!onboarding" class="name">
      <label for="site-name">Name of the site</label>
      <InputText id="site-name" v-model="name" required maxlength="100" autofocus />
    </div>
    <div class="places">
      <fieldset v-for="(p, i) of places" :key="i" class="stack">
        <legend>{{ p.name }}</legend>
        <label :for="`url-${i}`">Address</label>
        <InputText :id="`url-${i}`" v-model="p.url" required :placeholder="example(p.name)" size="small" />
        <label :for="`hosts-${i}`">Other hosts that belong to it, if any</label>
        <InputText
          :id="`hosts-${i}`"
          :model-value="(p.hosts ?? []).join(', ')"
          size="small"
          placeholder="assets.example.org, pay.example.org"
          @update:model-value="p.hosts = hostsOf($event)"
        />
        <label :for="`kind-${i}`">Its settings are changed</label>
        <select :id="`kind-${i}`" v-model="p.kind" :aria-label="`How the settings of ${p.name} are changed`">
          <option v-for="k in kinds ?? []" :key="k.name" :value="k.name">{{ k.title }}</option>
        </select>
        <template v-if="needsAddress(p.kind)">
          <label :for="`token-${i}`">
            Token of its connector{{ onboarding?.hasToken.includes(p.name) ? " (one is saved)" : "" }}
          </label>
          <InputText
            :id="`token-${i}`"
            v-model="p.token"
            type="password"
            autocomplete="off"
            size="small"
            placeholder="the token, or env:NAME"
          />
          <label :for="`connector-${i}`">Address of its connector, when it is not in the usual place</label>
          <InputText :id="`connector-${i}`" v-model="p.connector" size="small" placeholder="…/_speed/v1" />
        </template>
      </fieldset>
    </div>
    <Trouble :error="acts.begin.error.value ?? acts.place.error.value" />
    <div class="row">
      <Button
        type="submit"
        :label="onboarding ? 'Test again' : 'Test it'"
        :outlined="!!onboarding"
        :loading="acts.begin.isPending.value || acts.place.isPending.value"
      />
    </div>
  </form>
</template>

<style scoped>
.places {
  display: grid;
  grid-template-columns: repeat(2, minmax(0, 1fr));
  gap: var(--s4);
}
fieldset {
  border: 1px solid var(--rule-strong);
  padding: var(--s2) var(--s3) var(--s3);
  gap: var(--s1);
}
legend {
  font-family: var(--chart);
  font-style: italic;
}
.name {
  display: flex;
  flex-direction: column;
  max-width: 24rem;
}
@media (max-width: 900px) {
  .places {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
