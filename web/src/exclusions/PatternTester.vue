<script setup lang="ts">
/** What a pattern would match among all that is known of the site, and what it narrowly misses. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref, watch } from "vue";
import { useRouter } from "vue-router";
import { useExclusionActs, type Ledger } from "./queries";
import { useSession } from "../api/session";
import Trouble from "../shared/Trouble.vue";

const props = defineProps<{ site: number; environment: number; settings: Ledger["settings"] }>();
const { may } = useSession();
const router = useRouter();
const acts = useExclusionActs(() => props.site);
const key = ref("");
const pattern = ref("");
/** What else to try it on, a line each: what no request shows, such as the names of look-ups. */
const more = ref("");
watch(
  () => props.settings,
  (s) => (key.value ||= s[0]?.key ?? ""),
  { immediate: true },
);
const setting = computed(() => props.settings.find((s) => s.key === key.value));
const tried = computed(() => acts.tryPattern.data.value);
// What was found is of the pattern that was tried, and of no other.
watch([key, pattern, more], () => acts.tryPattern.reset());

async function tryOut() {
  await acts.tryPattern.mutateAsync({
    environment: props.environment,
    role: setting.value!.role,
    pattern: pattern.value,
    texts: more.value.split("\n").flatMap((l) => l.trim() || []),
  });
}
async function add() {
  const c = await acts.mend.mutateAsync({
    title: `Exclude ${pattern.value}`.slice(0, 200),
    reason: "",
    mends: [{ role: setting.value!.role, key: key.value, add: [pattern.value] }],
  });
  await router.push(`/changes/${c.id}`);
}
</script>

<template>
  <section class="stack" aria-label="Try a pattern">
    <form class="row" @submit.prevent="tryOut">
      <select v-model="key" aria-label="Which setting">
        <option v-for="s in settings" :key="s.key" :value="s.key">{{ s.title }}</option>
      </select>
      <InputText v-model="pattern" size="small" placeholder="/cart" aria-label="Pattern to try" maxlength="500" />
      <Button
        type="submit"
        size="small"
        outlined
        label="Try it"
        :disabled="!pattern || !setting"
        :loading="acts.tryPattern.isPending.value"
      />
      <Button
        v-if="tried && may('work')"
        size="small"
        text
        label="Start a change with it"
        :loading="acts.mend.isPending.value"
        @click="add"
      />
    </form>
    <details :open="setting?.role === 'data-exclude'">
      <summary class="small">Try it on something else, too</summary>
      <textarea
        v-model="more"
        rows="3"
        aria-label="More to try it on, a line each"
        placeholder="one a line: an address, a selector, the text of a look-up"
      ></textarea>
    </details>
    <Trouble :error="acts.tryPattern.error.value ?? acts.mend.error.value" />
    <div v-if="tried" aria-live="polite" class="found">
      <p v-if="!tried.possible">▲ It cannot match anything. A path begins with “/”.</p>
      <p v-else>
        It matches <b>{{ tried.matches.length }}</b> of {{ tried.known }} that are known<template
          v-if="tried.within.length"
          >; “{{ tried.within.join("”, “") }}” already matches all of that</template
        >.
      </p>
      <ul v-if="tried.matches.length" class="plain-list small">
        <li v-for="m in tried.matches.slice(0, 40)" :key="m">● {{ m }}</li>
        <li v-if="tried.matches.length > 40">and {{ tried.matches.length - 40 }} more</li>
      </ul>
      <template v-if="tried.misses.length">
        <p>
          It narrowly misses <b>{{ tried.misses.length }}</b>:
        </p>
        <ul class="plain-list small">
          <li v-for="m in tried.misses.slice(0, 40)" :key="m.text">○ {{ m.text }} — by its {{ m.why }}</li>
        </ul>
      </template>
    </div>
  </section>
</template>

<style scoped>
textarea {
  width: 100%;
  max-width: 40rem;
  font: inherit;
}
.found {
  border-left: 4px solid var(--rule-strong);
  padding-left: var(--s3);
  overflow-wrap: anywhere;
}
</style>
