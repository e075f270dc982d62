<script setup lang="ts">
/** What is to be said about the rules in force, the gravest first, each with the change that mends it. */
import Button from "primevue/button";
import { ref } from "vue";
import { useRouter } from "vue-router";
import { useExclusionActs, type Ledger, type Remark } from "./queries";
import { useSession } from "../api/session";
import ShowMore from "../shared/ShowMore.vue";
import StateGlyph from "../shared/StateGlyph.vue";
import Trouble from "../shared/Trouble.vue";
import { counted } from "../shared/wording";

const props = defineProps<{
  remarks: Remark[];
  site: number;
  pages: number;
  settings: Ledger["settings"];
}>();
const shown = ref(20);
const { may } = useSession();
const router = useRouter();
const acts = useExclusionActs(() => props.site);

const kinds = {
  uncovered: { word: "not covered", state: "broken" },
  personal: { word: "not told apart", state: "broken" },
  dependent: { word: "wrongly ignored", state: "broken" },
  expires: { word: "forms expire", state: "broken" },
  late: { word: "shown too late", state: "unsure" },
  wide: { word: "too wide", state: "unsure" },
  both: { word: "contradiction", state: "unsure" },
  impossible: { word: "matches nothing", state: "unsure" },
  useless: { word: "does nothing", state: "note" },
  idle: { word: "nothing known", state: "note" },
} as const;

const titleOf = (key: string) => props.settings.find((s) => s.key === key)?.title ?? key;

function mended(r: Remark) {
  const parts: string[] = [];
  if (r.mend?.add?.length) parts.push(`add ${r.mend.add.join(", ")}`);
  if (r.mend?.remove?.length) parts.push(`take out ${r.mend.remove.join(", ")}`);
  return parts.join("; ");
}
async function mend(r: Remark) {
  const words = mended(r);
  const c = await acts.mend.mutateAsync({
    title: (words.charAt(0).toUpperCase() + words.slice(1)).slice(0, 200),
    reason: r.text,
    mends: [r.mend!],
  });
  await router.push(`/changes/${c.id}`);
}
</script>

<template>
  <section class="stack" aria-label="Findings about the rules">
    <p v-if="!remarks.length">
      Every rule does something, none is too wide, and no page is missed among
      {{ counted(pages, "address that is known", "addresses that are known") }}.
    </p>
    <Trouble :error="acts.mend.error.value" />
    <ul class="plain-list">
      <li v-for="(r, i) in remarks.slice(0, shown)" :key="i">
        <StateGlyph :state="kinds[r.kind].state" :word="kinds[r.kind].word" />
        <div>
          <p>{{ r.text }}</p>
          <p v-if="r.rule" class="small faded">{{ titleOf(r.rule.key) }}</p>
          <details v-if="r.pages?.length" class="small">
            <summary>{{ r.count === 1 ? "The page" : `The pages (${r.count})` }}</summary>
            {{ r.pages.join(", ") }}{{ (r.count ?? 0) > r.pages.length ? " …" : "" }}
          </details>
        </div>
        <div v-if="r.mend && may('work')" class="mend">
          <Button
            size="small"
            outlined
            label="Fix it with a change"
            :aria-label="`Fix it with a change: ${mended(r)}`"
            :disabled="acts.mend.isPending.value"
            @click="mend(r)"
          />
          <p class="small faded">{{ mended(r) }}</p>
        </div>
      </li>
    </ul>
    <ShowMore v-model="shown" :of="remarks.length" what="remarks" />
  </section>
</template>

<style scoped>
li {
  display: grid;
  grid-template-columns: 9.5rem minmax(0, 1fr) 15rem;
  gap: var(--s3);
  padding: var(--s2) 0;
  border-bottom: 1px solid var(--rule);
}
.mend {
  overflow-wrap: anywhere;
}
@media (max-width: 900px) {
  li {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
