<script setup lang="ts">
/** Patterns that the site has and nobody recorded: each waits for a reason. */
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { ref } from "vue";
import { useExclusionActs, type Ledger } from "./queries";
import { useSession } from "../api/session";
import ShowMore from "../shared/ShowMore.vue";
import Trouble from "../shared/Trouble.vue";
import { counted } from "../shared/wording";

const props = defineProps<{ list: Ledger["unexplained"]; site: number }>();
const { may } = useSession();
const acts = useExclusionActs(() => props.site);
const shown = ref(20);
const reasons = ref<Record<string, string>>({});
const at = (u: Ledger["unexplained"][number]) => `${u.key} ${u.pattern}`;

async function explain(u: Ledger["unexplained"][number]) {
  await acts.record.mutateAsync({ key: u.key, pattern: u.pattern, reason: reasons.value[at(u)] });
  delete reasons.value[at(u)];
}
</script>

<template>
  <section v-if="list.length" class="unexplained stack" aria-label="Patterns without a reason">
    <h2>{{ counted(list.length, "pattern has", "patterns have") }} no reason recorded</h2>
    <Trouble :error="acts.record.error.value" />
    <ul class="plain-list">
      <li v-for="u in list.slice(0, shown)" :key="at(u)">
        <code>{{ u.pattern }}</code>
        <span class="small"
          >{{ u.title }}<br /><span class="faded">on {{ u.inForce.join(", ") }}</span></span
        >
        <form v-if="may('work')" class="row" @submit.prevent="explain(u)">
          <InputText
            v-model="reasons[at(u)]"
            size="small"
            placeholder="why it is excluded"
            maxlength="2000"
            :aria-label="`Why ${u.pattern} is excluded`"
          />
          <Button
            type="submit"
            size="small"
            outlined
            label="Record"
            :aria-label="`Record why ${u.pattern} is excluded`"
            :disabled="!reasons[at(u)]?.trim()"
          />
        </form>
      </li>
    </ul>
    <ShowMore v-model="shown" :of="list.length" what="patterns" />
  </section>
</template>

<style scoped>
.unexplained {
  border-left: 4px solid var(--unsure);
  padding-left: var(--s3);
}
li {
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(0, 1.2fr) minmax(0, 2fr);
  gap: var(--s3);
  padding: 4px 0;
  border-bottom: 1px solid var(--rule);
}
li code {
  overflow-wrap: anywhere;
}
form :deep(input) {
  flex: 1;
}
@media (max-width: 900px) {
  li {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
