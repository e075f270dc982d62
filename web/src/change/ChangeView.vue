<script setup lang="ts">
import InputText from "primevue/inputtext";
import { computed, onMounted, onUnmounted, useTemplateRef, watch } from "vue";
import { onBeforeRouteLeave } from "vue-router";
import { Problem } from "../api/client";
import { useChangeActs, useChange } from "./queries";
import { useSession } from "../api/session";
import { useParity } from "../site/settings";
import AskState from "../shared/AskState.vue";
import BundlePicker from "./BundlePicker.vue";
import ChangePath from "./ChangePath.vue";
import ChangeWords from "./ChangeWords.vue";
import StepUpPane from "./StepUpPane.vue";
import Fingerprint from "../shared/Fingerprint.vue";
import EditsList from "./EditsList.vue";
import PredictionPane from "./PredictionPane.vue";
import MergeQuestion from "./MergeQuestion.vue";
import RiskGlance from "./RiskGlance.vue";
import RolloutPane from "../rollout/RolloutPane.vue";
import { named } from "./naming";
import { useSaving } from "./saving";
import SettingField from "./SettingField.vue";
import SiteHead from "../site/SiteHead.vue";
import BackupForm from "./BackupForm.vue";
import Trouble from "../shared/Trouble.vue";
import { inWords } from "../shared/wording";
import Button from "primevue/button";
import { useShortcuts } from "../shared/shortcuts";
import { flagInAddress, textInAddress } from "../shared/address";

const props = defineProps<{ id: number }>();
const { data: change, isPending, error, refetch } = useChange(() => props.id);
const acts = useChangeActs();
const { may } = useSession();
const { data: parity } = useParity(() => change.value?.site ?? 0);
const unlike = computed(() => parity.value?.unlike.some((u) => u.weighs));

/** Where a backup is needed next: on staging before it is tried, then on production. */
const backedUp = computed(() =>
  change.value?.choices.some((c) => c.event === "tidy")
    ? { id: change.value.productionId, name: change.value.production }
    : { id: change.value?.stagingId ?? 0, name: change.value?.staging ?? "" },
);

/** Edits as they stand on this page; saved as they are made. */
const saving = useSaving({
  send: async (version, edits) => {
    const { id, reason, effect } = change.value!;
    const title = named(change.value!, edits);
    return await acts.edit.mutateAsync({ id, version, title, reason, effect, edits });
  },
  reread: async () => {
    const { data, error } = await refetch();
    if (!data) throw error ?? new Error("The change could not be read.");
    return data;
  },
  conflict: (e) => e instanceof Problem && e.status === 409 && e.details.some((d) => d.location === "body.version"),
});
const { edits, question, undoable } = saving;
watch(change, (c) => c && saving.take(c), { immediate: true });
const editing = computed(() => change.value?.choices.find((c) => c.event === "edit"));
const asking = computed({ get: () => question.value !== undefined, set: () => undefined });
const titles = computed(() => Object.fromEntries(change.value?.catalogue.settings.map((d) => [d.key, d.title]) ?? []));

function set(key: string, value: unknown) {
  const all = { ...edits.value };
  if (JSON.stringify(value) === JSON.stringify(change.value!.baseValues[key])) delete all[key];
  else all[key] = value;
  saving.set(all);
}
// What is not saved goes with the page; the browser asks before it does.
function guard(e: BeforeUnloadEvent) {
  if (saving.state.value !== "saved") e.preventDefault();
}
onMounted(() => addEventListener("beforeunload", guard));
onUnmounted(() => removeEventListener("beforeunload", guard));
onBeforeRouteLeave(async () => {
  if (await saving.settled()) return true;
  return confirm("Some edits of this change are not saved. Leave and lose them?");
});
const saidOf: Record<string, string> = { saved: "Saved", saving: "Saving …", "not saved": "Not saved" };
const refusalOf = (key: string) =>
  change.value?.refusals.find((r) => r.key === key)?.why ??
  (saving.trouble.value as { details?: { location?: string; message?: string }[] } | null | undefined)?.details?.find(
    (d) => d.location === `body.edits.${key}`,
  )?.message;

const find = textInAddress("q");
const only = flagInAddress("changed");
const groups = computed(() => {
  const out = new Map<string, NonNullable<typeof change.value>["catalogue"]["settings"]>();
  const word = find.value.toLowerCase();
  for (const d of change.value?.catalogue.settings ?? []) {
    if (word && !`${d.title} ${d.summary} ${d.key} ${d.role}`.toLowerCase().includes(word)) continue;
    if (only.value && !(d.key in edits.value)) continue;
    out.set(d.group, [...(out.get(d.group) ?? []), d]);
  }
  return out;
});

const box = useTemplateRef<{ $el: HTMLInputElement }>("box");
useShortcuts((key) => {
  if (key === "/") return () => box.value?.$el.focus();
  return key === "u" && !!editing.value?.allowed && undoable.value && saving.undo;
});
</script>

<template>
  <AskState :pending="isPending" :error="error" what="The change" @again="refetch()">
    <template v-if="change">
      <SiteHead :site="change.site" :name="change.siteName" here="Change" />
      <ChangeWords :change="change" :editable="may('work')" :saved="saving.settled" />
      <StepUpPane v-if="change.stepUp" :change="change" :step-up="change.stepUp" />
      <div class="three">
        <section>
          <div class="spread">
            <h2>Settings</h2>
            <span class="small faded"
              ><span
                v-if="editing?.allowed"
                role="status"
                class="saved"
                :class="saving.state.value.replace(' ', '-')"
                >{{ saidOf[saving.state.value] }}</span
              ><template v-if="editing?.allowed"> · </template>from production <Fingerprint :value="change.base"
            /></span>
          </div>
          <div class="row tools">
            <InputText
              ref="box"
              v-model="find"
              size="small"
              placeholder="Search settings"
              aria-label="Search settings"
            />
            <Button
              size="small"
              text
              :label="only ? 'Show all' : `Only changed (${Object.keys(edits).length})`"
              @click="only = !only"
            />
            <Button
              v-if="editing?.allowed && undoable"
              size="small"
              text
              label="Undo"
              title="Takes back the last edit made on this page (u)"
              @click="saving.undo"
            />
          </div>
          <BundlePicker v-if="editing?.allowed" :change="change" :saved="saving.settled" @taken="saving.did" />
          <p v-if="editing && !editing.allowed" class="small faded">{{ editing.why }}</p>
          <p v-if="!groups.size" class="faded">
            {{ only ? "Nothing is changed yet." : "No setting has that in its title, summary or key." }}
          </p>
          <fieldset v-for="[group, defs] in groups" :key="group">
            <legend>{{ group }}</legend>
            <SettingField
              v-for="d in defs"
              :key="d.key"
              :def="d"
              :base="change.baseValues[d.key]"
              :model-value="d.key in edits ? edits[d.key] : change.baseValues[d.key]"
              :disabled="!editing?.allowed"
              :refusal="refusalOf(d.key)"
              :lacking="change.lacking[d.key]"
              @update:model-value="set(d.key, $event)"
            />
          </fieldset>
        </section>
        <section class="stack">
          <h2>Effects</h2>
          <Trouble
            :error="asking ? undefined : ((saving.trouble.value as Error | undefined) ?? acts.act.error.value)"
          />
          <p v-if="!change.differences.length" class="faded">Nothing differs from production yet.</p>
          <RiskGlance v-else :risk="change.risk" />
          <EditsList :differences="change.differences" />
          <PredictionPane v-if="change.differences.length" :change="change" :editable="!!editing?.allowed" />
          <div
            v-for="q in change.consequences"
            :key="q.text"
            class="callout unsure follows"
            :class="{ blocks: q.blocks }"
          >
            <p>{{ q.text }}</p>
            <Button
              v-if="q.mend && editing?.allowed"
              size="small"
              outlined
              :label="`Also set ${titles[q.mend.key] ?? q.mend.key} to ${inWords(q.mend.value)}`"
              @click="set(q.mend.key, q.mend.value)"
            />
          </div>
          <BackupForm
            v-if="change.consequences.some((q) => q.kind === 'irreversible')"
            :environment="backedUp.id"
            :name="backedUp.name"
          />
          <p v-if="unlike" class="small">
            {{ change.staging }} and {{ change.production }} differ in more than values; a check proves little of that.
            <RouterLink :to="`/sites/${change.site}/settings`">See what differs</RouterLink>
          </p>
          <div v-if="change.series.length && editing?.allowed" class="callout unsure follows">
            <p>
              It changes {{ change.series.length }} things that are better tried one by one: if something breaks, it is
              hard to say which did.
            </p>
            <ol class="small">
              <li v-for="s in change.series" :key="s.title">{{ s.title }}</li>
            </ol>
            <Button
              size="small"
              outlined
              :label="`Split it into ${change.series.length} changes, in this order`"
              :loading="acts.act.isPending.value"
              @click="acts.act.mutate({ id: change.id, act: 'split' })"
            />
          </div>
          <div v-if="change.exclusions.length">
            <h2>Excluded</h2>
            <ul class="plain-list">
              <li v-for="e in change.exclusions" :key="e.id" class="small">
                <code>{{ e.pattern }}</code> in {{ e.key }}: {{ e.reason }}
              </li>
            </ul>
          </div>
        </section>
        <aside>
          <h2>Progress</h2>
          <p v-if="change.follows" class="small">
            After <RouterLink :to="`/changes/${change.follows.id}`">{{ change.follows.title }}</RouterLink>, which is
            {{ change.follows.state }}.
          </p>
          <ChangePath :change="change" :saved="saving.settled" />
          <RolloutPane :change="change" />
        </aside>
      </div>
      <MergeQuestion
        v-if="question"
        v-model="asking"
        :merge="question"
        :who="change.editedBy"
        :titles="titles"
        @settled="saving.answer"
      />
    </template>
  </AskState>
</template>

<style scoped>
.three {
  display: grid;
  grid-template-columns: minmax(0, 1.55fr) minmax(0, 1fr) minmax(0, 0.85fr);
  gap: var(--s5);
  margin-top: var(--s3);
}
.tools {
  margin: var(--s2) 0;
}
.saved.not-saved {
  color: var(--broken);
  font-weight: 600;
}
fieldset {
  border: 0;
  border-top: 2px solid var(--rule-strong);
  margin: 0 0 var(--s3);
  padding: 0;
}
legend {
  font-family: var(--chart);
  font-style: italic;
  padding-right: var(--s2);
  color: var(--faded);
}
.follows.blocks {
  border-color: var(--broken);
  background: var(--broken-wash);
}
aside {
  border-left: 1px solid var(--rule);
  padding-left: var(--s4);
}
@media (max-width: 900px) {
  .three {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
