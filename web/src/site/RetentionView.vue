<script setup lang="ts">
import Button from "primevue/button";
import Dialog from "primevue/dialog";
import InputNumber from "primevue/inputnumber";
import InputText from "primevue/inputtext";
import { computed, ref, watch } from "vue";
import { useRouter } from "vue-router";
import { useKeepingActs, useKept, useRemoval, type Days } from "./retention";
import { useSite } from "./queries";
import { useSession } from "../api/session";
import AskState from "../shared/AskState.vue";
import { count, counted, valueOf } from "../shared/wording";
import SiteHead from "./SiteHead.vue";
import Trouble from "../shared/Trouble.vue";
import CsvFoot from "../shared/CsvFoot.vue";
import { useAsking } from "../shared/asking";

/** How much of a site is kept and for how long, and the way to remove all of it. */
const props = defineProps<{ id: number }>();
const router = useRouter();
const { may } = useSession();
const { data: site } = useSite(() => props.id);
const { data: kept, isPending, error, refetch } = useKept(() => props.id);
const acts = useKeepingActs();

const days = ref<Days>({});
watch(kept, (k) => k && (days.value = { ...k.days }), { immediate: true });
const rows: { of: keyof Days; label: string; why: string }[] = [
  { of: "clear", label: "Runs that were clear", why: "Their looks, measurements and pictures" },
  { of: "others", label: "All other runs", why: "The same, for broken and unsure runs" },
  {
    of: "personal",
    label: "Pages as personas were shown them",
    why: "Their bodies only, which may say who somebody is",
  },
];
const less = computed(() => rows.some((r) => (days.value[r.of] ?? 0) < (kept.value?.days[r.of] ?? 0)));
const changed = computed(() => rows.some((r) => days.value[r.of] !== kept.value?.days[r.of]));

const ask = useAsking();
const save = () => acts.decide.mutate({ site: props.id, days: days.value });
function decide() {
  if (!less.value) return save();
  ask({
    title: `Keep less of ${site.value?.name ?? "the site"}?`,
    says: "Anything older than these days is removed within the hour and cannot be restored.",
    verb: "Keep less",
    go: save,
  });
}

const removing = ref(false);
const typed = ref("");
const { data: removal, error: unseen } = useRemoval(() => props.id, removing);
async function remove() {
  await acts.remove.mutateAsync({ site: props.id, name: typed.value, seen: removal.value!.seen });
  await router.push("/");
}
</script>

<template>
  <AskState :pending="isPending" :error="error" what="Retention" @again="refetch()">
    <template v-if="kept">
      <SiteHead :site="id" :name="site?.name ?? ''" here="Retention" />
      <h1>Retention</h1>
      <div class="two">
        <section>
          <h2>How much</h2>
          <table v-listed class="tide">
            <tbody>
              <tr>
                <th scope="row">Runs</th>
                <td class="number">{{ count(kept.size.runs) }}</td>
              </tr>
              <tr>
                <th scope="row">Looks</th>
                <td class="number">{{ count(kept.size.looks) }}</td>
              </tr>
              <tr>
                <th scope="row">Measured page loads</th>
                <td class="number">{{ count(kept.size.loads) }}</td>
              </tr>
              <tr>
                <th scope="row">Pictures and bodies</th>
                <td class="number">{{ count(kept.size.blobs) }}, {{ valueOf("bytes", kept.size.bytes) }}</td>
              </tr>
              <tr>
                <th scope="row">Lines of history</th>
                <td class="number">{{ count(kept.size.events) }}</td>
              </tr>
            </tbody>
            <CsvFoot />
          </table>
          <p class="small faded below">
            Marks in use, what they refer to, and the history are kept forever. Verdicts and findings stay when the
            pictures behind them are gone.
          </p>
        </section>
        <section>
          <h2>Days</h2>
          <form class="stack" @submit.prevent="decide">
            <div v-for="r in rows" :key="r.of" class="days">
              <label :for="r.of"
                >{{ r.label }}<span class="small faded">{{ r.why }}</span></label
              >
              <InputNumber
                v-model="days[r.of]"
                :input-id="r.of"
                :min="1"
                :max="36500"
                :disabled="!may('decide')"
                suffix=" days"
              />
            </div>
            <p v-if="less && changed" class="callout unsure">
              Anything older is removed within the hour and cannot be restored.
            </p>
            <Trouble :error="acts.decide.error.value" />
            <Button
              v-if="may('decide')"
              type="submit"
              label="Save"
              :disabled="!changed"
              :loading="acts.decide.isPending.value"
            />
            <p v-else class="small faded">Only approvers can edit this.</p>
          </form>
        </section>
      </div>
      <section v-if="may('administer')" class="remove">
        <h2>Remove the site from Tide Marker</h2>
        <p class="last">
          Everything recorded about it is deleted: changes, runs, marks, exclusions, history. The site itself keeps the
          settings that it has.
        </p>
        <Button outlined label="Remove…" @click="removing = true" />
      </section>
      <Dialog
        v-model:visible="removing"
        modal
        :header="`Remove ${removal?.name ?? ''}`"
        :style="{ width: '36rem' }"
        :draggable="false"
      >
        <form class="stack" @submit.prevent="remove">
          <Trouble :error="unseen" />
          <template v-if="removal">
            <p>
              {{ counted(removal.size.runs, "run") }}, {{ counted(removal.size.looks, "look") }},
              {{ valueOf("bytes", removal.size.bytes) }} of pictures and bodies, and
              {{ counted(removal.size.events, "line") }} of history go, and cannot be restored but from a backup.
            </p>
            <p v-if="removal.open" class="callout unsure">Not now: {{ removal.open }}</p>
            <template v-else>
              <label for="typed">Type the site’s name: {{ removal.name }}</label>
              <InputText id="typed" v-model="typed" autocomplete="off" autofocus />
              <Trouble :error="acts.remove.error.value" />
              <Button
                type="submit"
                :label="`Remove ${removal.name} forever`"
                :disabled="typed !== removal.name"
                :loading="acts.remove.isPending.value"
              />
            </template>
          </template>
        </form>
      </Dialog>
    </template>
  </AskState>
</template>

<style scoped>
.two {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: var(--s5);
}
h1 {
  margin-bottom: var(--s3);
}
h2 {
  margin-bottom: var(--s2);
}
th[scope="row"] {
  font: inherit;
  color: inherit;
  border-bottom: 1px solid var(--rule);
}
.number {
  text-align: right;
}
.last {
  margin: var(--s2) 0;
}
.below {
  margin-top: var(--s2);
}
.days {
  display: grid;
  grid-template-columns: 1fr 9rem;
  gap: var(--s3);
  align-items: center;
}
.days label span {
  display: block;
}
.days :deep(input) {
  width: 9rem;
  text-align: right;
}
.remove {
  margin-top: var(--s5);
  border-top: 1px solid var(--rule);
  padding-top: var(--s3);
}
@media (max-width: 900px) {
  .two {
    grid-template-columns: minmax(0, 1fr);
  }
}
</style>
