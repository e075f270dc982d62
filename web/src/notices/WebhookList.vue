<script setup lang="ts">
/** Addresses to which notices are sent, and what became of each. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import MultiSelect from "primevue/multiselect";
import { computed, ref } from "vue";
import { useWebhookActs, useWebhooks, type Webhook } from "./queries";
import { useSites } from "../site/queries";
import AskState from "../shared/AskState.vue";
import Consequence from "../shared/Consequence.vue";
import DeliveryTable from "./DeliveryTable.vue";
import FormFrame from "../shared/FormFrame.vue";
import { topicWord } from "./notices";
import OnceShown from "../shared/OnceShown.vue";
import { useAsking } from "../shared/asking";
import Trouble from "../shared/Trouble.vue";

const { data, isPending, error, refetch } = useWebhooks();
const { data: sites } = useSites("", false, "name", 0);
const acts = useWebhookActs();
const topics = Object.entries(topicWord).map(([value, label]) => ({ value, label }));

const editing = ref<Webhook | "new">();
const address = ref("");
const site = ref(0);
const wanted = ref<Webhook["topics"]>([]);
function edit(w: Webhook | "new") {
  editing.value = w;
  address.value = w === "new" ? "" : w.address;
  site.value = w === "new" ? 0 : (w.site ?? 0);
  wanted.value = w === "new" ? [] : w.topics;
}
const ask = useAsking();
const shown = ref(0); // whose secret is shown
async function keep() {
  const words = { address: address.value.trim(), site: site.value || undefined, topics: wanted.value };
  if (editing.value === "new") {
    const made = await acts.add.mutateAsync(words);
    shown.value = made.id;
  } else if (editing.value) await acts.edit.mutateAsync({ ...editing.value, ...words, topics: wanted.value });
  editing.value = undefined;
}
const secret = computed(
  () => [acts.add.data.value, acts.renew.data.value].find((w) => w?.id === shown.value && w.secret)?.secret,
);
async function renew(id: number) {
  acts.add.reset();
  await acts.renew.mutateAsync(id);
  shown.value = id;
}
const pause = (w: Webhook) => acts.edit.mutate({ ...w, paused: !w.paused });
const trouble = computed(() => acts.renew.error.value);
const busy = computed(() => acts.remove.isPending.value);
const notRemoved = computed(() => acts.remove.error.value);
const open = ref(0);
const removing = ref<Webhook>();
const asking = computed({ get: () => !!removing.value, set: (v) => !v && (removing.value = undefined) });
async function remove() {
  await acts.remove.mutateAsync(removing.value!.id);
  removing.value = undefined;
}
const name = (id?: number) => sites.value?.sites.find((s) => s.id === id)?.name ?? (id ? `site ${id}` : "all sites");
</script>

<template>
  <section class="stack top">
    <div class="spread">
      <p class="small faded">
        Each notice is sent once to each address, signed as in the Standard Webhooks specification, and retried for a
        day if it is not accepted.
      </p>
      <Button v-if="!editing" size="small" label="Add a webhook" @click="edit('new')" />
    </div>
    <FormFrame
      v-if="editing"
      label="Webhook"
      :lacks="address.trim() ? '' : 'Give an address.'"
      :busy="acts.add.isPending.value || acts.edit.isPending.value"
      @keep="keep"
      @away="editing = undefined"
    >
      <label for="hook-address" class="small">Address</label>
      <InputText id="hook-address" v-model="address" type="url" size="small" placeholder="https://…" />
      <div class="row">
        <label for="hook-site" class="small">Of</label>
        <select id="hook-site" v-model.number="site">
          <option :value="0">all sites</option>
          <option v-for="s in sites?.sites ?? []" :key="s.id" :value="s.id">{{ s.name }}</option>
        </select>
        <MultiSelect
          v-model="wanted"
          :options="topics"
          option-label="label"
          option-value="value"
          placeholder="all notices"
          aria-label="Which notices"
          size="small"
        />
      </div>
      <Trouble :error="acts.add.error.value ?? acts.edit.error.value" />
    </FormFrame>
    <AskState :pending="isPending" :error="error" what="The webhooks" @again="refetch()">
      <p v-if="data && !data.length && !editing" class="faded">None. Notices reach people only.</p>
      <ul class="plain-list">
        <li v-for="w in data ?? []" :key="w.id" class="hook">
          <div class="spread">
            <p>
              <code>{{ w.address }}</code>
              <span class="small faded">
                {{ name(w.site) }};
                {{ w.topics.length ? w.topics.map((t) => topicWord[t]).join(", ") : "all notices" }}; made by
                {{ w.madeBy }}</span
              >
              <strong v-if="w.paused"> Paused.</strong>
            </p>
            <span class="row">
              <Button
                size="small"
                text
                :label="open === w.id ? 'Hide deliveries' : 'Deliveries'"
                :aria-expanded="open === w.id"
                @click="open = open === w.id ? 0 : w.id"
              />
              <Button size="small" text label="Edit" @click="edit(w)" />
              <Button size="small" text :label="w.paused ? 'Go on' : 'Pause'" @click="pause(w)" />
              <Button
                size="small"
                text
                label="New secret"
                @click="
                  ask({
                    title: `Make a new secret for ${w.address}?`,
                    says: 'Whatever checks signatures there refuses what is sent from now on, until it has the new one. The old one is lost.',
                    verb: 'Make it',
                    go: () => renew(w.id),
                  })
                "
              />
              <Button size="small" text label="Remove" @click="removing = w" />
            </span>
          </div>
          <OnceShown
            v-if="shown === w.id && secret"
            :value="secret"
            what="What is sent is signed with this secret. It is shown once."
          />
          <DeliveryTable v-if="open === w.id" :webhook="w.id" />
        </li>
      </ul>
      <Trouble :error="trouble" />
    </AskState>
    <Consequence
      v-if="removing"
      v-model="asking"
      title="Remove the webhook"
      verb="Remove"
      :does="[`Nothing is sent to ${removing.address} any more.`]"
      loses="the list of what was sent to it."
      :busy="busy"
      :error="notRemoved"
      @go="remove"
    />
  </section>
</template>

<style scoped>
.hook p .small {
  display: block;
}
.top {
  margin-top: var(--s3);
}
.hook {
  border-bottom: 1px solid var(--rule);
  padding: var(--s2) 0;
}
code {
  overflow-wrap: anywhere;
}
</style>
