<script setup lang="ts">
import Button from "primevue/button";
import InputText from "primevue/inputtext";
import { computed, ref } from "vue";
import { useSite } from "../site/queries";
import { useSession } from "../api/session";
import { useDecisions, useEndDecision, useLearned, useTestPlan, useTestPlanActs, type TestPlan } from "./queries";
import AskState from "../shared/AskState.vue";
import LooksTable from "./LooksTable.vue";
import PageForm from "./PageForm.vue";
import BudgetForm from "../measure/BudgetForm.vue";
import DecisionTable from "./DecisionTable.vue";
import RestlessTable from "./RestlessTable.vue";
import RowActs from "../shared/RowActs.vue";
import SiteHead from "../site/SiteHead.vue";
import Trouble from "../shared/Trouble.vue";
import { publishingFor, pageDraftOf, pagesFor, withPage, type Looks, type PageDraft } from "./looks";
import { classes } from "../shared/classes";
import TermHint from "../shared/TermHint.vue";
import { textInAddress } from "../shared/address";
import CsvFoot from "../shared/CsvFoot.vue";
import { span } from "../shared/wording";

const props = defineProps<{ id: number }>();
const { may } = useSession();
const site = useSite(() => props.id);
const { data: plan, isPending, error, refetch } = useTestPlan(() => props.id);
const { data: learned } = useLearned(() => props.id);
const { data: decisions } = useDecisions(() => props.id);
const endDecision = useEndDecision();
// Each part tells of its own troubles.
const acts = useTestPlanActs(() => props.id);
const looksActs = useTestPlanActs(() => props.id);
const budgetActs = useTestPlanActs(() => props.id);

const first = computed(() => site.data.value?.environments.find((e) => e.role === "staging")?.name ?? "staging");
const unmarked = computed(() => site.data.value?.environments.every((e) => !e.marks.length));
/** What was changed here, until the page is left: marks do not know it yet. */
const changed = ref(false);

/** The last edit of pages, masks or budgets, taken back: on condition that nobody edited the plan since. */
const undo = ref<{ version: string; to: Pick<TestPlan, "pages" | "budgets"> }>();
async function undoLast() {
  const { personas, journeys, publishing } = plan.value!;
  const { to, version } = undo.value!;
  undo.value = undefined;
  await acts.change.mutateAsync({ personas, journeys, publishing, ...to, version });
}
async function change(to: Partial<TestPlan>, by = acts, looks = true) {
  const { pages, personas, journeys, publishing, budgets, version } = plan.value!;
  undo.value = undefined;
  const now = await by.change.mutateAsync({ pages, personas, journeys, publishing, version, ...to });
  // What has secrets cannot be brought back from here: they are known to the server only.
  if (!("personas" in to || "journeys" in to || "publishing" in to))
    undo.value = { version: now.version, to: { pages, budgets } };
  if (looks) changed.value = true; // what must not differ is compared with the marks there are
}
const keepLooks = (to: Looks) =>
  change({ ...to, pages: pagesFor(plan.value!.pages, plan.value!.personas, to.personas) }, looksActs);

const page = ref<PageDraft>();
async function keepPage() {
  const d = page.value!;
  const { pages, publishing } = plan.value!;
  await change({
    pages: withPage(pages, d),
    publishing: d.was ? publishingFor(publishing, d.was, d.path.trim()) : publishing,
  });
  page.value = undefined;
}
const cls = textInAddress("class");
const find = textInAddress("q");
const counts = computed(() =>
  classes.map((c) => [c, plan.value?.pages.filter((p) => p.class === c).length ?? 0] as const).filter(([, n]) => n),
);
const shown = computed(
  () =>
    plan.value?.pages.filter(
      (p) => (!cls.value || p.class === cls.value) && p.path.toLowerCase().includes(find.value.trim().toLowerCase()),
    ) ?? [],
);
const missing = computed(() => classes.filter((c) => c !== "other" && !plan.value?.pages.some((p) => p.class === c)));
</script>

<template>
  <SiteHead :site="id" :name="site.data.value?.name ?? ''" here="Test plan" />
  <div class="spread">
    <h1>Test plan</h1>
    <a :href="`/api/v1/sites/${id}/file`" class="small" download>Download as a site file</a>
  </div>
  <p class="faded">
    Every mark and check looks at these pages as these personas and runs these journeys.
    <template v-if="missing.length">No page of the class {{ missing.join(", ") }} is in it.</template>
  </p>
  <p v-if="changed && !unmarked" class="callout unsure notice">
    What is new here is not in any mark yet: checks call it unsure.
    <RouterLink :to="`/sites/${id}`">Take another mark</RouterLink> of each environment.
  </p>
  <p v-if="undo" class="callout deep row undo" role="status">
    The test plan was saved.
    <Button size="small" outlined label="Undo" :loading="acts.change.isPending.value" @click="undoLast" />
  </p>
  <AskState :pending="isPending" :error="error" what="The test plan" @again="refetch()">
    <template v-if="plan">
      <section class="part">
        <div class="spread">
          <h2>Pages</h2>
          <InputText
            v-if="plan.pages.length > 10 || find"
            v-model="find"
            size="small"
            placeholder="Part of the path"
            aria-label="Search pages"
          />
          <span class="row filters" role="group" aria-label="Class">
            <Button size="small" :text="!!cls" :label="`all (${plan.pages.length})`" @click="cls = ''" />
            <Button
              v-for="[c, n] in counts"
              :key="c"
              size="small"
              :text="cls !== c"
              :label="`${c} (${n})`"
              @click="cls = c"
            />
          </span>
        </div>
        <table v-listed class="tide">
          <thead>
            <tr>
              <th>Page</th>
              <th>Class</th>
              <th>Personas</th>
              <th>On</th>
              <th>Masks</th>
              <th><span class="visually-hidden">Actions</span></th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="p in shown" :key="p.path">
              <td class="path">
                {{ p.path }}
                <span v-if="p.formLives" class="small faded">its form can be sent for {{ span(p.formLives) }}</span>
              </td>
              <td>{{ p.class }}</td>
              <td class="small">{{ (p.personas ?? []).join(", ") }}</td>
              <td class="small">{{ (p.devices ?? []).join(", ") }}</td>
              <td class="small">
                <span v-for="m in p.masks ?? []" :key="m.selector" :title="m.reason">{{ m.selector }} </span>
              </td>
              <td>
                <RowActs
                  v-if="may('work')"
                  :name="p.path"
                  :keeps="plan.pages.length === 1"
                  undoable
                  @edit="page = pageDraftOf(p)"
                  @leave="change({ pages: plan.pages.filter((x) => x.path !== p.path) })"
                />
              </td>
            </tr>
          </tbody>
          <CsvFoot />
        </table>
        <p v-if="may('work')"><Button size="small" text label="Add a page" @click="page = pageDraftOf()" /></p>
        <PageForm
          v-if="page"
          :key="page.was"
          v-model="page"
          :pages="plan.pages"
          :personas="plan.personas.map((p) => p.name)"
          :classes="classes"
          :busy="acts.change.isPending.value"
          @keep="keepPage"
          @away="page = undefined"
        />
        <Trouble :error="acts.change.error.value" />
      </section>
      <section class="part">
        <h2>
          <TermHint of="persona">Personas</TermHint>, journeys and <TermHint of="publishing">publishing tests</TermHint>
        </h2>
        <LooksTable
          :looks="plan"
          :pages="plan.pages.map((p) => p.path)"
          :first="first"
          :site="props.id"
          :may-edit="may('work')"
          :keep="keepLooks"
          :run="(what) => looksActs.run.mutateAsync(what)"
        />
        <div v-if="learned?.doubts?.length" class="doubts">
          <h3>Does not work as written</h3>
          <ul>
            <li v-for="d in learned.doubts" :key="d.journey + d.environment + d.device">
              <RouterLink :to="`/runs/${d.run}`">{{ d.title }}</RouterLink>
              <span class="small faded"> on {{ d.environment }}, {{ d.device }}: {{ d.detail }}</span>
            </li>
          </ul>
        </div>
      </section>
      <section class="part">
        <h2>Budgets</h2>
        <BudgetForm
          :budgets="plan.budgets ?? []"
          :may-edit="may('work')"
          :busy="budgetActs.change.isPending.value"
          @budgets="(budgets) => change({ budgets }, budgetActs, false)"
        />
        <Trouble :error="budgetActs.change.error.value" />
      </section>
      <section v-if="learned" class="part">
        <h2>What changes by itself</h2>
        <p class="faded">
          These parts differed between the two looks of a mark although nobody changed anything. Checks ignore them.
        </p>
        <RestlessTable
          :restless="learned.restless ?? []"
          :pages="plan.pages"
          :may-edit="may('work')"
          :busy="acts.change.isPending.value"
          @pages="(pages) => change({ pages }, acts, false)"
        />
      </section>
      <section v-if="decisions?.length" class="part">
        <h2>Accepted differences</h2>
        <p class="faded">Differences accepted as expected for more than one run.</p>
        <DecisionTable
          :decisions="decisions"
          :may-end="may('work')"
          :busy="endDecision.isPending.value"
          @end="(id) => endDecision.mutate(id)"
        />
        <Trouble :error="endDecision.error.value" />
      </section>
    </template>
  </AskState>
</template>

<style scoped>
.part {
  margin-top: var(--s4);
}
td {
  vertical-align: middle !important;
}
.path {
  overflow-wrap: anywhere;
}
.doubts {
  border-left: 4px solid var(--unsure);
  padding: 0 var(--s3);
  margin-top: var(--s3);
}
.filters {
  gap: 2px;
}
.notice {
  margin-top: var(--s2);
}
.undo {
  position: sticky;
  top: 0;
  z-index: 2;
  margin-top: var(--s2);
}
</style>
