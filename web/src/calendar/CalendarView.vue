<script setup lang="ts">
import Button from "primevue/button";
import { computed, onUnmounted, ref } from "vue";
import { useCalendar, useCalendarActs, type CalendarEntry, type EntryWords } from "./queries";
import { useSite } from "../site/queries";
import { useSession } from "../api/session";
import AskState from "../shared/AskState.vue";
import { againSaid, daysOf, timesOf } from "./calendar";
import CalendarExchange from "./CalendarExchange.vue";
import DayRulers from "./DayRulers.vue";
import EntryForm from "./EntryForm.vue";
import PromotionRules from "./PromotionRules.vue";
import ScheduleList from "./ScheduleList.vue";
import SiteHead from "../site/SiteHead.vue";
import { useAsking } from "../shared/asking";
import { useTold } from "../shared/told";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";

/** What may be promoted when: the calendar of one site, or of all. */
const props = defineProps<{ id: number }>();
const everywhere = computed(() => !props.id);
const { may } = useSession();
const { data: site } = useSite(
  () => props.id,
  () => props.id > 0,
);

const weeks = 5;
const now = ref(new Date());
const tick = setInterval(() => (now.value = new Date()), 60_000);
onUnmounted(() => clearInterval(tick));
const monday = (t: Date) => new Date(t.getFullYear(), t.getMonth(), t.getDate() - ((t.getDay() + 6) % 7));
const first = ref(monday(now.value));
const last = computed(
  () => new Date(first.value.getFullYear(), first.value.getMonth(), first.value.getDate() + 7 * weeks),
);
const { data: calendar, isPending, error, refetch } = useCalendar(() => props.id, first, last);
const acts = useCalendarActs();
const days = computed(() =>
  calendar.value ? daysOf(calendar.value, first.value, 7 * weeks, now.value, everywhere.value) : [],
);
const move = (by: number) =>
  (first.value = new Date(first.value.getFullYear(), first.value.getMonth(), first.value.getDate() + 7 * by));

const going = computed(() => calendar.value?.going.filter((g) => !g.done) ?? []);
const entries = computed(() =>
  [...(calendar.value?.entries ?? [])].sort(
    (a, b) => Number(b.now) - Number(a.now) || Date.parse(a.next ?? "9999-01-01") - Date.parse(b.next ?? "9999-01-01"),
  ),
);
const freezes = computed(() => {
  const n = entries.value.filter((e) => e.now && e.entry.kind === "freeze").length;
  return n === 1 ? "1 freeze" : `${n || "No"} freezes`;
});
const editing = ref<CalendarEntry | "new">();
const tell = useTold();
const confirm = useAsking();
async function keep(entry: EntryWords) {
  const e = editing.value;
  if (e === "new") await acts.add.mutateAsync({ site: props.id, entry });
  else if (e) await acts.edit.mutateAsync({ id: e.id, version: e.version, entry });
  editing.value = undefined;
}
/** What a freeze held back may go out at once: that no undo brings back. */
function ask(e: CalendarEntry) {
  if (e.entry.kind !== "freeze") return void remove(e);
  const waiting = going.value.map((g) => `“${g.title}”`).join(", ");
  confirm({
    title: `Remove the freeze “${e.entry.title}”?`,
    says: waiting
      ? `What it held back may be promoted at once, as approved: ${waiting}.`
      : "Promotions that it forbids are allowed again.",
    verb: "Remove it",
    go: () => remove(e),
  });
}
async function remove(e: CalendarEntry) {
  await acts.remove.mutateAsync({ id: e.id, version: e.version });
  tell({
    says: `“${e.entry.title}” was removed from the calendar.`,
    undo: () => acts.add.mutateAsync({ site: e.site ?? 0, entry: e.entry }),
  });
}
</script>

<template>
  <AskState :pending="isPending" :error="error" what="The calendar" @again="refetch()">
    <template v-if="calendar">
      <SiteHead v-if="!everywhere" :site="id" :name="site?.name ?? ''" here="Calendar" />
      <div class="spread">
        <h1>What may be promoted when</h1>
        <span class="row">
          <Button size="small" text label="Earlier" @click="move(-weeks)" />
          <Button size="small" text label="This week" @click="first = monday(now)" />
          <Button size="small" text label="Later" @click="move(weeks)" />
        </span>
      </div>
      <p v-if="calendar.trouble" class="state shut" role="alert">
        Nothing is promoted: {{ calendar.trouble }} Edit it, or remove it.
      </p>
      <p v-else-if="everywhere" class="state">
        {{ freezes }} now, on all sites together. Each site also has a calendar of its own.
      </p>
      <p v-else-if="calendar.why" class="state shut">{{ calendar.why }}</p>
      <p v-else class="state open">Promotions may start now.</p>
      <div class="two">
        <section>
          <DayRulers :days="days" />
          <p class="small faded legend">
            <span class="swatch freeze" aria-hidden="true" /> freeze: nothing is promoted
            <span class="swatch window" aria-hidden="true" /> window
            <span class="swatch gone" aria-hidden="true">◆</span>
            promoted. Times are yours.
          </p>
        </section>
        <section class="stack">
          <div v-if="going.length">
            <h2>Promoted automatically</h2>
            <ul class="plain-list">
              <li v-for="g in going" :key="g.change" class="small">
                <RouterLink :to="`/changes/${g.change}`">{{ g.title }}</RouterLink><template v-if="everywhere">
                  on {{ g.siteName }}</template
                >, approved by {{ g.who }}
              </li>
            </ul>
          </div>
          <div class="spread">
            <h2>Freezes and windows</h2>
            <Button v-if="may('decide') && !editing" size="small" label="Add" @click="editing = 'new'" />
          </div>
          <EntryForm
            v-if="editing"
            :key="editing === 'new' ? 0 : editing.id"
            :entry="editing === 'new' ? undefined : editing.entry"
            :everywhere="everywhere"
            :busy="acts.add.isPending.value || acts.edit.isPending.value"
            :error="editing === 'new' ? acts.add.error.value : acts.edit.error.value"
            @keep="keep"
            @away="editing = undefined"
          />
          <p v-if="!entries.length && !editing" class="faded">
            None: promotions may start at any time.
            <template v-if="!may('decide')">Approvers add them.</template>
          </p>
          <ul class="plain-list">
            <li v-for="e in entries" :key="e.id" class="entry" :class="{ over: !e.next }">
              <p>
                <strong>{{ e.entry.title }}</strong>
                <span class="small faded kind">
                  {{ e.entry.kind }}<template v-if="e.now">, now</template
                  ><template v-else-if="!e.next">, over</template>; {{ e.siteName || "all sites" }}</span
                >
              </p>
              <p class="small">
                {{ timesOf(e.entry) }} ({{ e.entry.zone }}), {{ againSaid(e.entry.rule ?? "")
                }}<template v-if="e.entry.except?.length">, {{ e.entry.except.length }} left out</template
                ><template v-if="e.entry.rule && e.next && !e.now">; next <When :at="e.next" short /></template>
              </p>
              <div v-if="may('decide') && (everywhere || e.site)" class="row">
                <Button size="small" text label="Edit" :aria-label="`Edit ${e.entry.title}`" @click="editing = e" />
                <Button
                  size="small"
                  text
                  label="Remove"
                  :aria-label="`Remove ${e.entry.title}`"
                  :disabled="acts.remove.isPending.value"
                  @click="ask(e)"
                />
              </div>
              <p v-else-if="may('decide')" class="small faded">
                It is for all sites: <RouterLink to="/calendar">edit it there</RouterLink>.
              </p>
            </li>
          </ul>
          <Trouble :error="acts.remove.error.value ?? (editing ? undefined : acts.add.error.value)" />
          <PromotionRules v-if="!everywhere" :site="id" />
          <ScheduleList v-if="!everywhere" :site="id" />
          <CalendarExchange :site="id" :address="calendar.address" />
        </section>
      </div>
    </template>
  </AskState>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: minmax(0, 1.5fr) minmax(0, 1fr);
  gap: var(--s5);
  margin-top: var(--s3);
}
.state {
  border-left: 4px solid var(--rule-strong);
  padding: var(--s1) var(--s3);
  margin-top: var(--s2);
}
.state.shut {
  border-color: var(--unsure);
  background: var(--unsure-wash);
}
.state.open {
  border-color: var(--clear);
  background: var(--clear-wash);
}
.entry {
  border-top: 1px solid var(--rule);
  padding: var(--s2) 0;
}
.kind {
  margin-left: 0.6em;
}
.over {
  opacity: 0.75;
}
.legend {
  margin-top: var(--s2);
}
.swatch {
  display: inline-block;
  width: 22px;
  height: 11px;
  border: 1px solid var(--ink);
  margin: 0 3px 0 10px;
  vertical-align: -1px;
}
.swatch.freeze {
  margin-left: 0;
  background: repeating-linear-gradient(45deg, var(--rule-strong) 0 2px, var(--blind-wash) 2px 5px);
}
.swatch.window {
  background: var(--shoal);
  border-color: var(--deep);
}
.swatch.gone {
  border: 0;
  width: auto;
  height: auto;
  color: var(--deep);
  vertical-align: 0;
}
@media (max-width: 900px) {
  .two {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
