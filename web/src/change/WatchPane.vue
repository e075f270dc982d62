<script setup lang="ts">
/** How a promotion is watched: when it is looked and why, what was found and what that comes of, and what follows. */
import Button from "primevue/button";
import Textarea from "primevue/textarea";
import { computed, ref } from "vue";
import { useSession } from "../api/session";
import { useWatchActs, type Watch } from "./watchQueries";
import StateGlyph from "../shared/StateGlyph.vue";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";
import { after, blame, place, purposes, sentence } from "./watches";
import TermHint from "../shared/TermHint.vue";

const props = defineProps<{ watch: Watch; settle: boolean }>();
const { may } = useSession();
const acts = useWatchActs();

type Act = "settle" | "keep" | "stop";
const forms: Record<Act, { label: string; verb: string }> = {
  settle: { label: "Why does the change stay anyway?", verb: "Settle now" },
  keep: { label: "Why does it stay on production?", verb: "Keep it on production" },
  stop: { label: "Why is it not watched any longer?", verb: "End the watch" },
};
const doing = ref<Act>();
const words = ref("");
function begin(act: Act) {
  words.value = "";
  doing.value = act;
}
async function go() {
  const reason = words.value.trim();
  if (doing.value === "settle") await acts.settle.mutateAsync({ change: props.watch.change, reason });
  else if (doing.value) await acts[doing.value].mutateAsync({ watch: props.watch.id, reason });
  doing.value = undefined;
}
const busy = computed(() => Object.values(acts).some((m) => m.isPending.value));
const trouble = computed(() => acts.settle.error.value ?? acts.keep.error.value ?? acts.stop.error.value);
const announced = computed(() => props.watch.back && !props.watch.back.refused && !props.watch.back.run);
/** Looks that nobody had to make are not told one by one. */
const looks = computed(() => props.watch.looks.filter((l) => l.state !== "joined"));
const sign: Record<string, string> = { clear: "clear", found: "broken", news: "clear", "not checked": "not checked" };
</script>

<template>
  <section class="stack" aria-labelledby="watch-title">
    <h2 id="watch-title"><TermHint of="watch">Watch</TermHint></h2>
    <p>
      <StateGlyph :state="watch.state === 'watching' ? 'running' : watch.state" :word="watch.state" />
      <span v-if="watch.state === 'watching'" class="small faded"> until <When :at="watch.ends" short /></span>
    </p>
    <p class="small">
      {{ sentence(watch) }}
      <RouterLink v-if="watch.takenOverBy" :to="`/changes/${watch.takenOverBy}`">See that change</RouterLink>
    </p>
    <div v-if="watch.back" class="back" :class="{ announced }" role="status">
      <p v-if="announced">
        <strong>It is rolled back automatically <When :at="watch.back.at" />,</strong> as the site says, unless somebody
        says no.
      </p>
      <p v-else-if="watch.back.run">
        <strong>It was rolled back automatically.</strong>
        <RouterLink :to="`/runs/${watch.back.run}`">See run {{ watch.back.run }}</RouterLink>
      </p>
      <p v-else><strong>It was not rolled back automatically.</strong> {{ watch.back.refused }}</p>
      <p class="small">{{ watch.back.why }}</p>
    </div>
    <div class="line" aria-hidden="true">
      <i
        v-for="l in looks"
        :key="l.at"
        :class="l.state.replace(' ', '-')"
        :style="{ left: `${place(watch, l.at) * 100}%` }"
      />
    </div>
    <ol class="plain-list looks">
      <li>
        <p class="head">
          <span class="at"><b>at once</b></span>
          <RouterLink :to="`/runs/${watch.promotion}`">run {{ watch.promotion }}</RouterLink>
        </p>
        <p class="small">The promotion’s own check: everything, purged and warmed up</p>
      </li>
      <li v-for="l in looks" :key="l.at" :class="{ open: l.state === 'planned' }">
        <p class="head">
          <span class="at"
            ><b>{{ after(watch.begun, l.at) }}</b> <span class="small faded"><When :at="l.at" short /></span
          ></span>
          <RouterLink v-if="l.run && l.state !== 'planned'" :to="`/runs/${l.run}`"
            ><StateGlyph :state="sign[l.state] ?? 'running'" :word="l.state"
          /></RouterLink>
          <span v-else class="small faded">{{ l.state }}</span>
        </p>
        <p v-for="p in purposes(l)" :key="p.title" class="small" :title="p.why">
          {{ p.title }}<template v-if="p.pages">: {{ p.pages }}</template>
        </p>
        <p v-if="l.state === 'planned' && l.why" class="small late">{{ l.why }}</p>
        <p v-if="l.state === 'skipped'" class="small faded">{{ l.why }}</p>
        <ul v-if="l.held.length" class="held">
          <li v-for="h in l.held" :key="h.finding" class="small">
            <RouterLink :to="`/runs/${l.run}?finding=${h.finding}`">{{ h.title }}</RouterLink> on {{ h.page }}:
            <strong>{{ blame(h.blame) }}</strong>. {{ h.why }}
            <RouterLink v-if="l.stagingRun" :to="`/runs/${l.stagingRun}`">Run {{ l.stagingRun }} on staging</RouterLink>
          </li>
        </ul>
      </li>
    </ol>
    <p v-if="watch.kept" class="small faded">
      {{ watch.kept }} files that browsers kept at the promotion come along, for as long as a browser would keep them.
    </p>
    <form v-if="doing" class="stack" @submit.prevent="go">
      <label for="watch-words" class="small">{{ forms[doing].label }} It is recorded in the history.</label>
      <Textarea id="watch-words" v-model="words" v-focus rows="3" maxlength="2000" />
      <Trouble :error="trouble" />
      <div class="row">
        <Button type="submit" size="small" :label="forms[doing].verb" :disabled="!words.trim()" :loading="busy" />
        <Button size="small" text label="Cancel" @click="doing = undefined" />
      </div>
    </form>
    <div v-else-if="may('work')" class="row">
      <Button v-if="announced" size="small" label="Stop the rollback" @click="begin('keep')" />
      <Button v-if="settle" size="small" label="Settle now" @click="begin('settle')" />
      <Button v-if="watch.state === 'watching'" size="small" text label="End the watch" @click="begin('stop')" />
    </div>
  </section>
</template>

<style scoped>
.back {
  border-left: 4px solid var(--rule-strong);
  padding: var(--s1) var(--s3);
}
.back.announced {
  border-color: var(--broken);
  background: var(--broken-wash);
}
.line {
  position: relative;
  height: 14px;
  margin: 0 7px;
  border-bottom: 2px solid var(--rule-strong);
}
.line i {
  position: absolute;
  bottom: -6px;
  width: 10px;
  height: 10px;
  margin-left: -5px;
  background: var(--paper);
  border: 2px solid var(--rule-strong);
}
.line .clear,
.line .news {
  background: var(--deep);
  border-color: var(--deep);
}
.line .found {
  background: var(--broken);
  border-color: var(--broken);
}
.line .not-checked,
.line .skipped {
  border-style: dashed;
  border-color: var(--unsure);
}
.looks li {
  border-bottom: 1px solid var(--rule);
  padding: 3px 0;
}
.looks .open {
  color: var(--faded);
}
.head {
  display: flex;
  justify-content: space-between;
  gap: var(--s2);
}
.late {
  color: var(--unsure);
}
.held {
  padding-left: var(--s3);
  margin: 2px 0;
}
.held li {
  border: 0;
}
</style>
