<script setup lang="ts">
/** One measured page in depth: how it comes into view on both sides, and what it asks for. */
import { computed, ref } from "vue";
import { useRoute, useRouter } from "vue-router";
import Button from "primevue/button";
import { useMeasureActs, useMeasuredPage, type Case } from "./queries";
import { useRun } from "../run/queries";
import AskState from "../shared/AskState.vue";
import FilmStrip from "./FilmStrip.vue";
import MarkedPicture from "./MarkedPicture.vue";
import SiteHead from "../site/SiteHead.vue";
import Trouble from "../shared/Trouble.vue";
import WaterfallTable from "./WaterfallTable.vue";
import WeightTable from "./WeightTable.vue";
import { shiftSpan } from "./measure";
import { counted, valueOf } from "../shared/wording";
import CsvFoot from "../shared/CsvFoot.vue";
import { choiceOf } from "../shared/choice";

const props = defineProps<{ id: number }>();
const route = useRoute();
const router = useRouter();
const acts = useMeasureActs();
const page = computed(() => String(route.query.page ?? ""));
const of = computed<Case | undefined>(() => {
  try {
    return route.query.case ? (JSON.parse(String(route.query.case)) as Case) : undefined;
  } catch {
    return undefined; // an address that somebody wrote: the first case
  }
});
const { data: run } = useRun(() => props.id);
const { data: m, isPending, error, refetch } = useMeasuredPage(() => props.id, page, of);
const named = (c: Case) =>
  [
    c.device,
    c.persona !== "visitor" && c.persona,
    c.visit === "repeat" && "repeat visit",
    c.uncached && "not from the page cache",
  ]
    .filter(Boolean)
    .join(", ");
const goPage = (e: Event) => void router.replace({ query: { page: choiceOf(e) } });
const goCase = (e: Event) => void router.replace({ query: { page: m.value!.page, case: choiceOf(e) } });
const metrics = ["first-contentful-paint", "largest-contentful-paint", "visually-complete", "load"];
const titles: Record<string, string> = {
  "first-contentful-paint": "first paint",
  "largest-contentful-paint": "largest paint",
  "visually-complete": "visually complete",
  load: "load",
};
const har = ref<unknown>();
const unreadable = ref("");
async function choose(e: Event) {
  const input = e.target as HTMLInputElement;
  const file = input.files?.[0];
  if (!file) return;
  unreadable.value = "";
  try {
    const text = await file.text();
    input.value = ""; // so that the same file can be chosen again
    har.value = JSON.parse(text.replace(/^\uFEFF/, ""));
  } catch {
    unreadable.value = `${file.name} is not a HAR file: it is not JSON. Save it from the network panel of a browser's developer tools.`;
    return;
  }
  read(0);
}
const read = (chosen: number) =>
  acts.recording.mutate({ run: props.id, page: m.value!.page, of: m.value!.case, chosen, har: har.value });
</script>

<template>
  <AskState :pending="isPending" :error="error" what="What was measured" @again="refetch()">
    <template v-if="m && run">
      <SiteHead :site="run.site" :name="run.siteName" :here="`Measurement ${id}, page in depth`" />
      <div class="spread">
        <h1>{{ m.page }}</h1>
        <RouterLink :to="`/runs/${id}`">Back to the measurement</RouterLink>
      </div>
      <div class="row choice">
        <label for="depth-page" class="small">Page</label>
        <select id="depth-page" :value="m.page" @change="goPage">
          <option v-for="p in m.pages" :key="p" :value="p">{{ p }}</option>
        </select>
        <label for="depth-case" class="small">Case</label>
        <select id="depth-case" :value="JSON.stringify(m.case)" @change="goCase">
          <option v-for="c in m.cases" :key="JSON.stringify(c)" :value="JSON.stringify(c)">{{ named(c) }}</option>
        </select>
        <a class="small" :href="`/api/v1/runs/${id}/measured/export?format=har&page=${encodeURIComponent(m.page)}`"
          >All its loads as HAR</a
        >
      </div>
      <div class="stack">
        <FilmStrip :before="m.before" :after="m.after" />
        <section class="sheet two">
          <div class="row pictures">
            <MarkedPicture v-if="m.before" name="before" :side="m.before" />
            <MarkedPicture v-if="m.after" name="after" :side="m.after" />
          </div>
          <table v-listed class="tide">
            <thead>
              <tr>
                <th>Of the load in the middle</th>
                <th>Before</th>
                <th>After</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="k in metrics" :key="k">
                <td>{{ titles[k] }}</td>
                <td v-for="s in [m.before, m.after]" :key="s?.load.side">
                  {{ s?.load.values[k] === undefined ? "not measured" : valueOf("ms", s.load.values[k]) }}
                </td>
              </tr>
              <tr>
                <td>largest paint</td>
                <td v-for="s in [m.before, m.after]" :key="s?.load.side">
                  <code>{{ s?.load.element || "not told" }}</code>
                </td>
              </tr>
              <tr>
                <td>moved</td>
                <td v-for="s in [m.before, m.after]" :key="s?.load.side">
                  <code v-for="x in s?.load.moved ?? []" :key="x">{{ x }} </code><template
                    v-if="!(s?.load.moved ?? []).length"
                    >nothing</template
                  >
                  <span v-if="s?.load.window" class="small faded">
                    in {{ counted(s.load.window.shifts, "shift") }}, {{ shiftSpan(s.load.window) }}</span
                  >
                </td>
              </tr>
            </tbody>
            <CsvFoot />
          </table>
        </section>
        <section class="sheet stack">
          <h2>Requests</h2>
          <p class="small faded">
            The upper bar is before, the lower after: light while it waits for the response, filled while the response
            arrives. A frame around a bar: it blocks drawing. Dashed lines: the largest paint. Versions in addresses are
            skipped.
          </p>
          <WaterfallTable
            :rows="m.rows"
            :largest="{
              before: m.before?.load.values['largest-contentful-paint'],
              after: m.after?.load.values['largest-contentful-paint'],
            }"
          />
        </section>
        <section class="sheet two">
          <WeightTable what="Kind" :before="m.before?.kinds ?? []" :after="m.after?.kinds ?? []" />
          <WeightTable what="Host" :before="m.before?.hosts ?? []" :after="m.after?.hosts ?? []" />
        </section>
        <section class="sheet stack">
          <h2>A HAR file of your own</h2>
          <div class="row">
            <label for="har-file" class="small"
              >A HAR file from any browser, compared with “after”; it is not stored</label
            >
            <input id="har-file" type="file" accept=".har,application/json" @change="choose" />
          </div>
          <p v-if="unreadable" class="problem">{{ unreadable }}</p>
          <Trouble :error="acts.recording.error.value" />
          <template v-if="acts.recording.data.value">
            <div v-if="acts.recording.data.value.recorded.length > 1" class="row">
              <span class="small">Page loads of the file:</span>
              <Button
                v-for="(r, i) in acts.recording.data.value.recorded"
                :key="i"
                size="small"
                text
                :label="r"
                :disabled="i === acts.recording.data.value.chosen"
                @click="read(i)"
              />
            </div>
            <WaterfallTable :rows="acts.recording.data.value.rows" before="measured" after="recording" />
          </template>
        </section>
      </div>
    </template>
  </AskState>
</template>

<style scoped>
.choice {
  margin: var(--s2) 0 var(--s3);
}
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: var(--s4);
  align-items: start;
}
.pictures {
  align-items: flex-start;
  flex-wrap: nowrap;
}
.problem {
  color: var(--broken);
}
@media (max-width: 900px) {
  .two {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
