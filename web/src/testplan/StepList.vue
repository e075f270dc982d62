<script setup lang="ts">
/** The steps of a journey, this time and when the mark was taken, with the pictures. */
import type { Schemas } from "../api/client";

defineProps<{ now?: Schemas["JourneyLook"]; was?: Schemas["JourneyLook"] }>();
</script>

<template>
  <ol v-if="now" class="steps">
    <li v-for="(s, i) in now.outcome.steps" :key="i" :class="{ failed: !s.passed }">
      <div class="spread">
        <span
          ><strong>{{ s.passed ? "✓" : "▲" }}</strong> {{ s.step }}</span
        >
        <span class="small faded">{{ (s.took / 1000).toFixed(2) }} s · {{ s.at }}</span>
      </div>
      <template v-if="!s.passed">
        <p class="why"><strong>Seen instead:</strong> {{ s.why }}</p>
        <div class="pictures">
          <figure v-if="was?.outcome.steps[i]?.picture">
            <figcaption class="small">when the mark was taken</figcaption>
            <img :src="`/api/v1/blobs/${was.outcome.steps[i]!.picture}`" alt="This step when the mark was taken" />
          </figure>
          <figure v-if="s.picture">
            <figcaption class="small">this run</figcaption>
            <img :src="`/api/v1/blobs/${s.picture}`" alt="This step in this run" />
          </figure>
        </div>
      </template>
    </li>
    <li v-if="was && was.outcome.steps.length > now.outcome.steps.length" class="faded">
      {{ was.outcome.steps.length - now.outcome.steps.length }} more steps were not reached.
    </li>
  </ol>
  <p v-else class="faded">No run of this journey is stored.</p>
</template>

<style scoped>
.steps {
  margin: 0;
  padding-left: 1.6em;
}
.steps li {
  padding: 4px 0;
  border-bottom: 1px solid var(--rule);
}
.failed {
  border-left: 4px solid var(--broken);
  background: var(--broken-wash);
  padding-left: var(--s2) !important;
}
.why {
  margin: 4px 0;
}
.pictures {
  display: flex;
  gap: var(--s3);
  align-items: flex-start;
}
figure {
  margin: 0;
  flex: 0 1 auto;
}
img {
  max-width: 100%;
  max-height: 380px;
  border: 1px solid var(--rule-strong);
}
</style>
