<script setup lang="ts">
/** Where a change goes on to other sites, and where it came from. */
import { computed } from "vue";
import type { Change } from "../change/queries";
import { useOffers, useRolloutsOf } from "./queries";
import { useSession } from "../api/session";
import StateGlyph from "../shared/StateGlyph.vue";
import { counted } from "../shared/wording";

const props = defineProps<{ change: Change }>();
const { may } = useSession();
const { data: rollouts } = useRolloutsOf(() => props.change.id);
const offered = computed(() => props.change.state === "settled" && may("work"));
const { data: offers } = useOffers(() => props.change.id, offered);
const takers = computed(() => offers.value?.filter((o) => !o.why && !o.in).length);
const going = computed(() => rollouts.value?.filter((r) => r.change === props.change.id) ?? []);
const brought = computed(() => rollouts.value?.find((r) => r.change !== props.change.id));
const signs: Record<string, string> = { open: "running", going: "running", stopped: "broken", ended: "ended" };
</script>

<template>
  <section v-if="offered || going.length || brought" class="stack" aria-labelledby="rollout-title">
    <h2 id="rollout-title">Other sites</h2>
    <p v-if="brought" class="small">
      Copied from {{ brought.name }}, where it settled:
      <RouterLink :to="`/rollouts/${brought.id}`">rollout {{ brought.id }}</RouterLink>
    </p>
    <ul v-if="going.length" class="plain-list">
      <li v-for="r in going" :key="r.id" class="small">
        <RouterLink :to="`/rollouts/${r.id}`">Rollout {{ r.id }}</RouterLink> to {{ counted(r.sites, "site") }}
        <StateGlyph :state="signs[r.state]!" :word="r.state" />
      </li>
    </ul>
    <p v-if="offered">
      <RouterLink :to="`/changes/${change.id}/other-sites`">Roll it out to other sites</RouterLink>
      <span v-if="takers !== undefined" class="small faded">
        ({{ takers || "none" }} {{ takers === 1 ? "has" : "have" }} the settings for it)</span
      >
    </p>
  </section>
</template>
