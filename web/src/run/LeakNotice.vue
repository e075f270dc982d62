<script setup lang="ts">
/** Private content reached somebody else: going back comes before looking further. */
import Button from "primevue/button";
import { computed } from "vue";
import { useRouter } from "vue-router";
import type { Run } from "./queries";
import { useSession } from "../api/session";

const props = defineProps<{ run: Run }>();
const { may } = useSession();
const router = useRouter();
const leaks = computed(() => props.run.findings.filter((f) => f.kind === "cache-leak" && f.state === "open"));
const pages = computed(() => [...new Set(leaks.value.map((f) => f.page))]);
/** Going back mends only what other settings than the mark's brought. */
const way = computed(() => {
  const { change, difference, site } = props.run;
  if (!difference.length)
    return {
      says: "The mark has the same settings, so rolling back fixes nothing: exclude the page.",
      label: "To the exclusions",
      to: { path: `/sites/${site}/exclusions` },
    };
  const says = "Roll back first; the evidence stays.";
  return change
    ? { says, label: "Roll back", to: { path: `/changes/${change}`, query: { ask: "rollback" } } }
    : { says, label: "To the marks", to: { path: `/sites/${site}` } };
});
const shown = computed(
  () =>
    ["try", "promote", "check", "isolation test", "recheck", "tidy"].includes(props.run.kind) && leaks.value.length > 0,
);
</script>

<template>
  <section v-if="shown" class="leak spread" role="alert">
    <p>
      <b>Private content reached somebody else</b>, on {{ pages.slice(0, 3).join(", ")
      }}<template v-if="pages.length > 3"> and {{ pages.length - 3 }} more</template>.
      {{ way.says }}
    </p>
    <Button v-if="may('work')" :label="way.label" @click="router.push(way.to)" />
  </section>
</template>

<style scoped>
.leak {
  border: 2px solid var(--broken);
  background: var(--broken-wash);
  padding: var(--s2) var(--s3);
  margin: var(--s2) 0;
}
.leak p {
  margin: 0;
}
</style>
