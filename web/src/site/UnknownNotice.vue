<script setup lang="ts">
/** Nobody knows what an environment has: which act is open, since when, and when it is read again. */
import Button from "primevue/button";
import { computed } from "vue";
import { useSiteActs, type Environment } from "./queries";
import { useSession } from "../api/session";
import Fingerprint from "../shared/Fingerprint.vue";
import Trouble from "../shared/Trouble.vue";
import When from "../shared/When.vue";
import { counted } from "../shared/wording";

const props = defineProps<{ environment: Environment }>();
const acts = useSiteActs();
const { may } = useSession();
const act = computed(() => props.environment.unknown!);
const words: Record<string, string> = {
  try: "A try",
  promote: "A promotion",
  "roll back": "A rollback",
  restore: "Restoring",
  control: "A control",
};
</script>

<template>
  <section class="unknown stack" role="status">
    <h2>It is not known which settings {{ environment.name }} has</h2>
    <p>
      {{ words[act.kind] ?? act.kind }} was to put <Fingerprint :value="act.fingerprint" /> in force in place of
      <Fingerprint :value="act.predecessor" />, begun <When :at="act.at" /> by {{ act.who }}. The site gave no proper
      answer and could not be read back.
      <template v-if="act.run">
        <RouterLink :to="`/runs/${act.run}`">The run</RouterLink> goes on as soon as it is known.
      </template>
      Nothing else acts on {{ environment.name }} until then.
    </p>
    <p class="small faded">
      <template v-if="environment.able.reads && act.nextReadAt">
        Read {{ counted(act.reads, "time") }} without an answer so far; next <When :at="act.nextReadAt" />.
      </template>
      <template v-else>Upload its settings as they are now: they show what is in force.</template>
      {{ act.note }}
    </p>
    <div v-if="may('work') && environment.able.reads" class="row">
      <Button
        label="Read it now"
        size="small"
        :loading="acts.read.isPending.value"
        @click="acts.read.mutate(environment.id)"
      />
    </div>
    <Trouble :error="acts.read.error.value" />
  </section>
</template>

<style scoped>
.unknown {
  border-left: 8px double var(--broken);
  background: var(--blind-wash);
  padding: var(--s3) var(--s4);
  margin-bottom: var(--s3);
}
</style>
