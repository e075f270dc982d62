<script setup lang="ts">
import Button from "primevue/button";
import Dialog from "primevue/dialog";
import InputText from "primevue/inputtext";
import Textarea from "primevue/textarea";
import { useMutation, useQueryClient } from "@tanstack/vue-query";
import { computed, ref, watch } from "vue";
import { useRoute, useRouter } from "vue-router";
import { api, body, Problem } from "../api/client";
import { useSites } from "./queries";
import { useSession } from "../api/session";
import AskState from "../shared/AskState.vue";
import Fingerprint from "../shared/Fingerprint.vue";
import StateGlyph from "../shared/StateGlyph.vue";
import Trouble from "../shared/Trouble.vue";
import { whereItWaits } from "./waits";
import When from "../shared/When.vue";

const route = useRoute();
const router = useRouter();
const q = ref(String(route.query.q ?? ""));
const offset = computed(() => Number(route.query.from ?? 0));
const only = ref(route.query.waiting === "yes");
const byName = ref(route.query.by === "name");
const label = ref(String(route.query.label ?? ""));
watch([q, only, byName, label], () => void router.replace({ query: asked(0) }));
function asked(from: number) {
  return {
    ...(q.value && { q: q.value }),
    ...(only.value && { waiting: "yes" }),
    ...(byName.value && { by: "name" }),
    ...(label.value && { label: label.value }),
    ...(from > 0 && { from }),
  };
}
const { data, isPending, error, refetch } = useSites(q, only, () => (byName.value ? "name" : "waiting"), offset, label);

const { may } = useSession();
const adding = ref(false);
const file = ref("");
const client = useQueryClient();
const register = useMutation({
  mutationFn: (rolesMayChange: boolean) =>
    body(api.POST("/api/v1/sites", { body: { file: file.value, rolesMayChange } })),
  onSuccess: async (s) => {
    adding.value = false;
    await client.invalidateQueries();
    await router.push(`/sites/${s.id}`);
  },
});
</script>

<template>
  <div class="spread top">
    <h1>Sites</h1>
    <span class="row">
      <Button size="small" text :label="byName ? 'Waiting first' : 'By name'" @click="byName = !byName" />
      <Button size="small" text :label="only ? 'All sites' : 'Waiting'" @click="only = !only" />
      <select v-if="data?.labels.length || label" v-model="label" aria-label="Label">
        <option value="">all labels</option>
        <option v-for="l in data?.labels ?? []" :key="l.label" :value="l.label">{{ l.label }} ({{ l.sites }})</option>
      </select>
      <InputText v-model="q" placeholder="Part of the name" aria-label="Filter by name" size="small" />
      <RouterLink v-if="may('work')" to="/add-site">Add a site</RouterLink>
      <Button v-if="may('work')" label="Import a site file" size="small" outlined @click="adding = true" />
    </span>
  </div>
  <AskState :pending="isPending" :error="error" what="Sites" @again="refetch()">
    <section v-if="!data?.sites.length" class="sheet stack">
      <h2>
        {{
          label
            ? "No site has that label"
            : q
              ? "No site has that in its name"
              : only
                ? "Nothing waits for anybody"
                : "No site is registered yet"
        }}
      </h2>
      <p v-if="!q && !only && !label">
        A site is described by a file: its environments, pages, personas and journeys. “Add a site” makes one step by
        step. Or paste one with “Import a site file”, or run <code>tidemarker site import FILE</code>.
      </p>
    </section>
    <ul v-else class="plain-list" :class="{ many: data.total > 8 }">
      <li v-for="s in data.sites" :key="s.id" class="site">
        <div class="who">
          <RouterLink :to="`/sites/${s.id}`" class="name">{{ s.name }}</RouterLink>
          <p v-if="s.labels.length" class="small">
            <a
              v-for="l in s.labels"
              :key="l"
              :href="`/?label=${encodeURIComponent(l)}`"
              class="label"
              @click.prevent="label = l"
              >{{ l }}</a
            >
          </p>
          <p v-if="s.waitingFor === 'going'" class="faded">{{ s.waiting }}</p>
          <p v-else-if="s.waiting">
            <RouterLink :to="whereItWaits(s)">{{ s.waiting }}</RouterLink>
          </p>
          <p v-else class="faded">Nothing is waiting for you.</p>
        </div>
        <div v-for="e in s.environments" :key="e.name" class="env">
          <h2>{{ e.name }}</h2>
          <p>
            <StateGlyph v-if="e.atMark" state="clear" word="at its mark" />
            <StateGlyph v-else-if="e.markedAt" state="unsure" word="away from its mark" />
            <StateGlyph v-else state="not checked" word="no mark" />
            · <Fingerprint :value="e.fingerprint" />
          </p>
          <p class="small faded">
            marked <When :at="e.markedAt" /><template v-if="e.lastVerdict"> · last run {{ e.lastVerdict }}</template>
          </p>
        </div>
      </li>
    </ul>
    <p v-if="data && data.total > 30" class="row pages">
      <RouterLink v-if="offset > 0" :to="{ query: asked(offset - 30) }">Earlier</RouterLink>
      <span>{{ offset + 1 }}–{{ Math.min(offset + 30, data.total) }} of {{ data.total }}</span>
      <RouterLink v-if="offset + 30 < data.total" :to="{ query: asked(offset + 30) }">Later</RouterLink>
    </p>
  </AskState>
  <Dialog v-model:visible="adding" modal header="Import a site" :style="{ width: '44rem' }" :draggable="false">
    <form class="stack" @submit.prevent="register.mutate(false)">
      <label for="file">The site file, YAML or JSON. A site with the same name is updated.</label>
      <Textarea id="file" v-model="file" rows="16" class="mono" spellcheck="false" autofocus />
      <Trouble :error="register.error.value" />
      <div class="row">
        <Button type="submit" label="Import" :disabled="!file.trim()" :loading="register.isPending.value" />
        <Button
          v-if="register.error.value instanceof Problem && register.error.value.status === 409"
          label="Import with these roles"
          outlined
          @click="register.mutate(true)"
        />
        <a href="/api/contract/site-file.schema.json" target="_blank">Its schema</a>
      </div>
    </form>
  </Dialog>
</template>

<style scoped>
.top {
  margin-bottom: var(--s3);
}
.site {
  display: grid;
  grid-template-columns: 1.3fr 1fr 1fr;
  gap: var(--s4);
  padding: var(--s3) 0;
  border-top: 1px solid var(--rule-strong);
}
.site:last-child {
  border-bottom: 1px solid var(--rule-strong);
}
.name {
  font-family: var(--chart);
  font-size: 1.3rem;
  font-weight: 600;
}
.label {
  margin-right: var(--s2);
}
.env {
  border-left: 1px solid var(--rule);
  padding-left: var(--s3);
}
.many .site {
  padding: var(--s2) 0;
}
.many .env h2 {
  display: inline;
  font-size: 0.95rem;
}
.many .env p {
  display: inline;
  margin-left: var(--s2);
}
.many .name {
  font-size: 1.1rem;
}
.pages {
  margin-top: var(--s3);
}
@media (max-width: 900px) {
  .site {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
