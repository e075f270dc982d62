<script setup lang="ts">
/** What a change would set, from what to what, and what that can break. */
import type { Schemas } from "../api/client";

defineProps<{ differences: Schemas["DifferenceView"][] }>();
</script>

<template>
  <ul class="plain-list">
    <li v-for="d in differences" :key="d.key" class="differs">
      <p>
        <strong>{{ d.title }}</strong>
      </p>
      <p class="from-to">
        <s>{{ d.fromText }}</s><span aria-hidden="true" class="to">→</span><span class="visually-hidden"> to </span
        ><b>{{ d.toText }}</b>
      </p>
      <p class="small">
        <span class="risk" aria-hidden="true">{{ "▾".repeat(d.risk) }}</span> Can break: {{ d.riskText }}
      </p>
    </li>
  </ul>
</template>

<style scoped>
.differs {
  border-left: 4px solid var(--deep);
  padding: 2px 0 2px var(--s2);
  margin-bottom: var(--s3);
}
.from-to {
  font-size: 1.1rem;
}
.to {
  margin: 0 0.4em;
}
.risk {
  color: var(--unsure);
}
</style>
