<script setup lang="ts">
/** What was said about a change, a run or a finding, and saying more. */
import Button from "primevue/button";
import Textarea from "primevue/textarea";
import { computed, ref } from "vue";
import { useComment, useComments, type About } from "./comments";
import { useSession } from "../api/session";
import Trouble from "./Trouble.vue";
import When from "./When.vue";

const props = defineProps<{ about: About; finding?: number; label?: string }>();
const { may } = useSession();
const { data } = useComments(() => props.about);
const say = useComment();
const text = ref("");
const shown = computed(() => data.value?.filter((c) => !props.finding || c.finding === props.finding) ?? []);
async function send() {
  const on = props.finding ? ({ of: "findings", id: props.finding } as const) : props.about;
  await say.mutateAsync({ ...on, text: text.value });
  text.value = "";
}
/** A text in pieces, those that mention somebody set apart. */
function pieces(said: string, mentions: string[]) {
  const names = [...mentions].sort((a, b) => b.length - a.length);
  const out: { text: string; who?: boolean }[] = [];
  let rest = said;
  while (rest) {
    const found = names
      .map((n) => ({ n, at: rest.toLowerCase().indexOf(`@${n.toLowerCase()}`) }))
      .filter((f) => f.at >= 0)
      .sort((a, b) => a.at - b.at || b.n.length - a.n.length)[0];
    if (!found) {
      out.push({ text: rest });
      break;
    }
    if (found.at) out.push({ text: rest.slice(0, found.at) });
    out.push({ text: rest.slice(found.at, found.at + found.n.length + 1), who: true });
    rest = rest.slice(found.at + found.n.length + 1);
  }
  return out;
}
</script>

<template>
  <section v-if="shown.length || may('work')" class="stack" :aria-label="label ?? 'Comments'">
    <h2>{{ label ?? "Comments" }}</h2>
    <ol v-if="shown.length" class="plain-list">
      <li v-for="c in shown" :key="c.id" class="comment">
        <p class="small faded">
          {{ c.who }}, <When :at="c.at" short /><template v-if="c.run && about.of === 'changes'"
            >, on
            <RouterLink :to="`/runs/${c.run}${c.finding ? `?finding=${c.finding}` : ''}`"
              >run {{ c.run }}</RouterLink
            ></template
          ><template v-else-if="c.finding && !finding"
            >, on <RouterLink :to="`/runs/${c.run}?finding=${c.finding}`">a finding</RouterLink></template
          >
        </p>
        <p class="text">
          <template v-for="(p, i) in pieces(c.text, c.mentions)" :key="i"
            ><b v-if="p.who">{{ p.text }}</b
            ><template v-else>{{ p.text }}</template></template
          >
        </p>
      </li>
    </ol>
    <form v-if="may('work')" class="stack" @submit.prevent="text.trim() && send()">
      <Textarea
        v-model="text"
        rows="2"
        maxlength="4000"
        auto-resize
        :aria-label="`Comment on this ${finding ? 'finding' : about.of === 'runs' ? 'run' : 'change'}`"
        placeholder="Say something; @ and a name mentions somebody"
      />
      <div class="row">
        <Button
          type="submit"
          size="small"
          outlined
          label="Comment"
          :disabled="!text.trim()"
          :loading="say.isPending.value"
        />
      </div>
      <Trouble :error="say.error.value" />
    </form>
  </section>
</template>

<style scoped>
.comment {
  border-left: 2px solid var(--rule-strong);
  padding: 2px 0 2px var(--s2);
  margin-bottom: var(--s2);
}
.text {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
}
</style>
